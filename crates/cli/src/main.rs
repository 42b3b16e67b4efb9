//! karst: the command-line client. It shows and asks; it decides nothing.
//!
//! Exit codes: 0 done; 1 the command could not be carried out; 2 the command line is wrong; 3 not
//! healthy (`status`, `why`), or a spec with errors (`spec check`); 4 refused by the cluster; 5 no
//! node answered.

mod act;
mod arguments;
mod connect;
mod ending;
mod output;
mod show;

use arguments::{
    Cli, Command, EndpointCommand, NodeCommand, One, OperationCommand, Show, SpecCommand,
};
use clap::{CommandFactory, Parser};
use ending::Ending;
use karst_api::{Client, ClientError, ModeBody, MoveBody};
use output::Format;
use std::process::ExitCode;

fn main() -> ExitCode {
    let cli = Cli::parse();
    let runtime = match tokio::runtime::Builder::new_current_thread()
        .enable_all()
        .build()
    {
        Ok(runtime) => runtime,
        Err(error) => return fail(&error.into()),
    };
    match runtime.block_on(run(cli)) {
        Ok(Ending::Done) => ExitCode::SUCCESS,
        Ok(Ending::NotWell) => ExitCode::from(3),
        Err(error) => fail(&error),
    }
}

fn fail(error: &anyhow::Error) -> ExitCode {
    eprintln!("karst: {error:#}");
    ExitCode::from(match error.downcast_ref::<ClientError>() {
        Some(ClientError::Refused { .. }) => 4,
        Some(ClientError::Unreachable(_)) => 5,
        _ => 1,
    })
}

async fn run(cli: Cli) -> anyhow::Result<Ending> {
    let (global, format) = (cli.global.clone(), cli.global.output);
    let client = || connect::client(&global);
    match cli.command {
        Command::Status { watch: false } => show::status(&client()?, format).await,
        Command::Status { watch: true } => show::watch(&client()?, format).await,
        Command::Wait {
            workload,
            until,
            timeout,
        } => show::wait(&client()?, workload.as_deref(), until, timeout).await,
        Command::Why { workload } => show::why(&client()?, workload.as_deref(), format).await,
        Command::Node(command) => node(command, &client()?, format).await,
        Command::Mode {
            mode,
            workload,
            all,
            time,
            why,
            yes,
        } => {
            let body = ModeBody {
                mode: mode.into(),
                why,
                for_seconds: time.map(|time| time.as_secs()),
            };
            let which = act::Which { workload, all, yes };
            act::mode(&client()?, &body, &which, format).await
        }
        Command::Quorum(Show::Show) => show::quorum(&client()?, format).await,
        Command::Workload(One::List) => show::workloads(&client()?, None, format).await,
        Command::Workload(One::Show { name }) => {
            show::workloads(&client()?, Some(&name), format).await
        }
        Command::Switchover {
            workload,
            to,
            consent,
        } => {
            let body = MoveBody {
                to: to.map(Into::into),
                ..MoveBody::default()
            };
            act::change(&client()?, "switchover", &workload, body, &consent, format).await
        }
        Command::Failover {
            workload,
            to,
            accept_loss,
            consent,
        } => {
            let body = MoveBody {
                to: Some(to.into()),
                accept_loss,
                ..MoveBody::default()
            };
            act::change(&client()?, "failover", &workload, body, &consent, format).await
        }
        Command::Operation(command) => operation(command, &client()?, format).await,
        Command::Endpoint(EndpointCommand::Show { workload }) => {
            show::endpoints(&client()?, workload.as_deref(), format).await
        }
        Command::Spec(SpecCommand::Check { file }) => show::check_spec(&file, format),
        Command::Spec(SpecCommand::Show) => show::spec(&client()?, format).await,
        Command::History {
            follow,
            workload,
            operation,
            limit,
        } => show::history(&client()?, follow, workload, operation, limit, format).await,
        Command::Completions { shell } => {
            clap_complete::generate(shell, &mut Cli::command(), "karst", &mut std::io::stdout());
            Ok(Ending::Done)
        }
    }
}

async fn node(command: NodeCommand, client: &Client, format: Format) -> anyhow::Result<Ending> {
    match command {
        NodeCommand::List => show::nodes(client, None, format).await,
        NodeCommand::Show { name } => show::nodes(client, Some(&name), format).await,
        NodeCommand::Fence { name, yes } => act::fence(client, &name, yes, format).await,
        NodeCommand::Power {
            name,
            what,
            consent,
        } => act::power(client, &name, what.into(), &consent, format).await,
        NodeCommand::Readmit { name } => act::readmit(client, &name, format).await,
        NodeCommand::Enrol { name, yes } => act::enrol(client, &name, yes, format).await,
    }
}

async fn operation(
    command: OperationCommand,
    client: &Client,
    format: Format,
) -> anyhow::Result<Ending> {
    match command {
        OperationCommand::List => show::operations(client, format).await,
        OperationCommand::Show { id } => show::operation(client, &id, format).await,
        OperationCommand::Watch { id } => act::watch(client, show::operation_id(&id)?).await,
        OperationCommand::Approve { id } => act::approve(client, show::operation_id(&id)?).await,
    }
}
