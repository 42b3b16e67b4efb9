//! karst: the command-line client. It shows and asks; it decides nothing.
//!
//! Exit codes: 0 done; 1 the command could not be carried out; 2 the command line is wrong; 3 not
//! healthy (`status`, `why`), or a spec with errors (`spec check`); 4 refused by the cluster; 5 no
//! node answered.

mod act;
mod adding;
mod arguments;
mod at_once;
mod authority;
mod client_lists;
mod connect;
mod difference;
mod doctor;
mod ending;
mod endpoints;
mod findings;
mod history;
mod intents;
mod joining;
mod nodes;
mod operations;
mod output;
mod runbook;
mod safety_points;
mod spec;
mod spec_init;
mod status;
mod steps;
mod why;
mod words;
mod workloads;

use anyhow::Context as _;
use arguments::{
    CaCommand, Changed, Cli, Command, EndpointCommand, FindingCommand, NodeCommand,
    OperationCommand, QuorumCommand, ReplicaCommand, SafetyPointCommand, SpecCommand, StepCommand,
    WorkloadCommand,
};
use clap::{CommandFactory, Parser};
use ending::Ending;
use intents::Removed;
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
    eprintln!("karst: {}", output::harmless(&format!("{error:#}")));
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
        Command::Status { watch: false } => status::show(&client()?, format).await,
        Command::Status { watch: true } => status::watch(&client()?, format).await,
        Command::Wait {
            workload,
            until,
            timeout,
        } => status::wait(&client()?, workload.as_deref(), until, timeout).await,
        Command::Why { workload } => why::why(&client()?, workload.as_deref(), format).await,
        Command::Node(command) => node(command, &client()?, format).await,
        Command::Quorum(QuorumCommand::Show) => nodes::quorum(&client()?, format).await,
        Command::Quorum(QuorumCommand::HandOver { to, consent }) => {
            at_once::hand_over(&client()?, to, &consent, format).await
        }
        Command::Workload(command) => workload(command, &client()?, format).await,
        Command::Replica(ReplicaCommand::Remove {
            workload,
            node,
            change: Changed { why, consent },
        }) => {
            let what = Removed::Replica(&workload, &node);
            intents::remove(&client()?, &what, why, &consent, format).await
        }
        Command::Operation(command) => operation(command, &client()?, format).await,
        Command::Endpoint(EndpointCommand::Show {
            workload,
            client: kind,
        }) => endpoints::show(&client()?, workload.as_deref(), kind.as_deref(), format).await,
        Command::SafetyPoint(command) => safety_point(command, &client()?, format).await,
        Command::Step(StepCommand::List) => steps::list(&client()?, format).await,
        Command::Step(StepCommand::Try {
            step,
            on,
            workload,
            consent,
        }) => {
            let trial = at_once::Trial { step, on, workload };
            at_once::try_step(&client()?, trial, &consent, format).await
        }
        Command::Spec(SpecCommand::Init(init)) => spec_init::run(&init),
        Command::Spec(SpecCommand::Check { file }) => spec::check(&file, format),
        Command::Spec(command) => spec_in_force(command, &client()?, format).await,
        Command::Finding(command) => finding(command, &client()?, format).await,
        Command::History(past) => history::show(&client()?, &past, format).await,
        Command::Runbook { name } => runbook::show(name.as_deref()),
        Command::Ca(CaCommand::Show) => authority::show(&client()?, format).await,
        Command::Ca(CaCommand::Renew(renewal)) => {
            authority::renew(&client()?, &renewal, format).await
        }
        Command::Init { file, place } => joining::init(&file, &place, format),
        Command::Join {
            file,
            place,
            secrets,
        } => joining::join(&file, &place, &secrets, format).await,
        Command::Doctor(doctor) => doctor::run(&doctor, format),
        Command::Check => doctor::check(&client()?, format).await,
        Command::Completions { shell } => {
            clap_complete::generate(shell, &mut Cli::command(), "karst", &mut std::io::stdout());
            Ok(Ending::Done)
        }
        Command::Manual { dir } => {
            clap_mangen::generate_to(Cli::command(), &dir)
                .with_context(|| format!("manual pages in {}", dir.display()))?;
            Ok(Ending::Done)
        }
        changes => change(changes, &client()?, format).await,
    }
}

/// What changes a workload.
async fn change(command: Command, client: &Client, format: Format) -> anyhow::Result<Ending> {
    match command {
        Command::Mode {
            mode,
            workload,
            all,
            time,
            why,
            consent,
        } => {
            let body = ModeBody {
                mode: mode.into(),
                why,
                for_seconds: time.map(|time| time.as_secs()),
            };
            let which = at_once::Which { workload, all };
            at_once::mode(client, &body, &which, &consent, format).await
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
            act::change(client, "switchover", &workload, body, &consent, format).await
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
            act::change(client, "failover", &workload, body, &consent, format).await
        }
        _ => unreachable!("every other command is carried out by `run`"),
    }
}

async fn workload(
    command: WorkloadCommand,
    client: &Client,
    format: Format,
) -> anyhow::Result<Ending> {
    match command {
        WorkloadCommand::List => workloads::show(client, None, format).await,
        WorkloadCommand::Show { name } => workloads::show(client, Some(&name), format).await,
        WorkloadCommand::Add(new) => adding::add(client, new, format).await,
        WorkloadCommand::Restart {
            name,
            change: Changed { why, consent },
        } => intents::restart(client, &name, why, &consent, format).await,
        WorkloadCommand::Remove {
            name,
            change: Changed { why, consent },
        } => {
            let what = Removed::Workload(&name);
            intents::remove(client, &what, why, &consent, format).await
        }
    }
}

/// The spec of a running cluster.
async fn spec_in_force(
    command: SpecCommand,
    client: &Client,
    format: Format,
) -> anyhow::Result<Ending> {
    match command {
        SpecCommand::Show { revision } => spec::show(client, revision, format).await,
        SpecCommand::Diff { file, from } => intents::diff(client, &file, from, format).await,
        SpecCommand::Submit {
            file,
            change: Changed { why, consent },
        } => intents::submit_file(client, &file, why, &consent, format).await,
        SpecCommand::Log => intents::log(client, format).await,
        SpecCommand::Revert {
            number,
            change: Changed { why, consent },
        } => intents::revert(client, number, why, &consent, format).await,
        SpecCommand::Init(_) | SpecCommand::Check { .. } => {
            unreachable!("both are carried out without a client")
        }
    }
}

async fn safety_point(
    command: SafetyPointCommand,
    client: &Client,
    format: Format,
) -> anyhow::Result<Ending> {
    match command {
        SafetyPointCommand::List => safety_points::list(client, format).await,
        SafetyPointCommand::Take(new) => safety_points::take(client, &new, format).await,
        SafetyPointCommand::GoBack { workload, change } => {
            safety_points::go_back(client, &workload, change, format).await
        }
        SafetyPointCommand::Drop { workload, consent } => {
            safety_points::drop_one(client, &workload, &consent, format).await
        }
    }
}

async fn finding(
    command: FindingCommand,
    client: &Client,
    format: Format,
) -> anyhow::Result<Ending> {
    match command {
        FindingCommand::List => findings::list(client, format).await,
        FindingCommand::Acknowledge {
            finding,
            note,
            consent,
        } => at_once::acknowledge(client, &finding, note, &consent, format).await,
        FindingCommand::Forget { finding, consent } => {
            at_once::forget(client, &finding, &consent, format).await
        }
    }
}

async fn node(command: NodeCommand, client: &Client, format: Format) -> anyhow::Result<Ending> {
    match command {
        NodeCommand::List => nodes::list(client, format).await,
        NodeCommand::Show { name } => nodes::show(client, &name, format).await,
        NodeCommand::Fence { name, consent } => {
            at_once::fence(client, &name, &consent, format).await
        }
        NodeCommand::Power {
            name,
            what,
            consent,
        } => act::power(client, &name, what.into(), &consent, format).await,
        NodeCommand::Maintenance { rest, end: false } => intents::rest(client, &rest, format).await,
        NodeCommand::Maintenance { rest, end: true } => {
            intents::end_rest(client, &rest, format).await
        }
        NodeCommand::Add(added) => joining::add(client, &added, format).await,
        NodeCommand::Remove {
            name,
            change: Changed { why, consent },
        } => intents::remove(client, &Removed::Node(&name), why, &consent, format).await,
        NodeCommand::Renew(place) => joining::renew(client, &place, format).await,
        NodeCommand::Readmit { name, consent } => {
            at_once::readmit(client, &name, &consent, format).await
        }
        NodeCommand::Enrol { name, why, consent } => {
            intents::enrol(client, &name, why, &consent, format).await
        }
    }
}

async fn operation(
    command: OperationCommand,
    client: &Client,
    format: Format,
) -> anyhow::Result<Ending> {
    match command {
        OperationCommand::List => operations::list(client, format).await,
        OperationCommand::Show { id } => operations::show(client, &id, format).await,
        OperationCommand::Report { id, form } => {
            operations::report(client, &id, form, format).await
        }
        OperationCommand::Watch { id } => act::watch(client, operations::id(&id)?, format).await,
        OperationCommand::End { id, consent } => {
            at_once::end(client, operations::id(&id)?, &consent, format).await
        }
        OperationCommand::Approve { id, consent } => {
            at_once::approve(client, operations::id(&id)?, &consent, format).await
        }
    }
}
