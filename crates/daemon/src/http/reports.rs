//! The report of an operation: from the history, and from what the coordinator still knows of it.

use super::now::status_now;
use super::problem::Refusal;
use super::records::records;
use super::service::Service;
use crate::tokens::User;
use actix_web::{HttpResponse, web};
use karst_api::{Around, OperationReport, ProblemType, Record};
use karst_core::fact::FactKind;
use karst_core::spec::Loss;
use karst_core::{OperationId, WorkloadId, outage};
use karst_history::Query;
use serde::Deserialize;
use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;
use utoipa::{IntoParams, ToSchema};

#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct ReportQuery {
    /// Default `json`.
    #[param(inline)]
    format: Option<Format>,
}

#[derive(Clone, Copy, Debug, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
enum Format {
    Json,
    Markdown,
    Svg,
}

/// What was done and why, where the time went, who voted, what was lost, and when everything was
/// protected again.
#[utoipa::path(get, path = "/api/v1/operations/{operation}/report", params(("operation" = u64, Path), ReportQuery),
    responses((status = 200, content((OperationReport = "application/json"), (String = "text/markdown"), (String = "image/svg+xml")))))]
pub async fn report(
    service: web::Data<Service>,
    _user: User,
    path: web::Path<u64>,
    query: Result<web::Query<ReportQuery>, actix_web::Error>,
) -> Result<HttpResponse, Refusal> {
    let query = query.map_err(|e| Refusal::bad(format!("{e}; known: format")))?;
    let report = written_up(&service, OperationId(path.into_inner())).await?;
    Ok(match query.format.unwrap_or(Format::Json) {
        Format::Json => HttpResponse::Ok().json(report),
        Format::Markdown => HttpResponse::Ok()
            .content_type("text/markdown; charset=utf-8")
            .body(report.markdown()),
        Format::Svg => HttpResponse::Ok()
            .content_type("image/svg+xml")
            .body(report.svg()),
    })
}

async fn written_up(service: &Service, id: OperationId) -> Result<OperationReport, Refusal> {
    if i64::try_from(id.0).is_err() {
        return Err(Refusal::bad("no operation has such a number"));
    }
    let answered = status_now(service).await?;
    let status = &answered.reply.status;
    let progress = status.operations.iter().find(|o| o.id == id);
    let of_it = Query {
        operation: Some(id.0),
        limit: 1_000,
        ..Query::default()
    };
    let steps = records(service, of_it).await?;
    let around = match steps.records.first() {
        Some(first) => around(service, first).await?,
        None => Around::default(),
    };
    let known = OperationReport::new(
        &status.cluster,
        id,
        progress,
        &steps.records,
        &around,
        &outage::worst_cases_of(&service.spec()),
    );
    known.ok_or_else(|| {
        let what = format!("nothing is known of {id}; see `karst operation list` and the history");
        Refusal::new(ProblemType::NotFound, what)
    })
}

/// Who was elected meanwhile, and when the sync set changed: from a little before it began.
async fn around(service: &Service, first: &Record) -> Result<Around, Refusal> {
    let begun = OffsetDateTime::parse(&first.at, &Rfc3339);
    let begun = begun.map_err(|e| Refusal::unavailable(e.to_string()))?;
    let kinds = [FactKind::Elected, FactKind::SyncSet];
    let query = Query {
        kinds: Some(kinds.map(|kind| kind.word().into()).into()),
        after: Some(begun - time::Duration::seconds(15)),
        before: Some(begun + time::Duration::hours(6)),
        limit: 2_000,
        ..Query::default()
    };
    let workload = first.workload.as_deref().map(WorkloadId::from);
    let in_force = service.spec();
    let spec = workload.and_then(|id| in_force.workloads.get(&id));
    Ok(Around {
        records: records(service, query).await?.records,
        loss: match spec.map(|spec| spec.loss) {
            Some(Loss::Bytes(bytes)) => bytes,
            _ => 0,
        },
        standbys: spec.map_or(0, |spec| spec.replicas.len().saturating_sub(1)),
    })
}
