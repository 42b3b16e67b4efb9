//! The history, as it is asked for: by page, or whole for a spreadsheet or another program.

use super::problem::Refusal;
use super::service::Service;
use crate::tokens::User;
use actix_web::{HttpResponse, web};
use karst_api::{HistoryReply, Record};
use karst_core::event::Level;
use karst_history::{Only, Query};
use serde::Deserialize;
use std::fmt::Write as _;
use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;
use utoipa::{IntoParams, ToSchema};

/// Of one answer.
const MOST_RECORDS: u32 = 10_000;
/// Of one file.
const MOST_EXPORTED: u32 = 100_000;
/// What the history store lacks is looked for among so many of the node's own waiting events.
const OWN: usize = 10_000;

#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct HistoryQuery {
    workload: Option<String>,
    operation: Option<u64>,
    /// As this node recorded it.
    node: Option<String>,
    /// One or more kinds, with commas between them.
    kind: Option<String>,
    /// At least so much: `info`, `notice`, `warning`.
    level: Option<Level>,
    /// Who asked for what, and how it was answered: with everything else by default.
    #[param(inline)]
    audit: Option<Audit>,
    /// Only what happened later, RFC 3339.
    #[param(format = DateTime)]
    after: Option<String>,
    /// Only what happened earlier, RFC 3339.
    #[param(format = DateTime)]
    before: Option<String>,
    /// Only what came into the record later, RFC 3339: `latest` of the reply before. Some of it
    /// comes again.
    #[param(format = DateTime)]
    arrived_after: Option<String>,
    /// Default 200; of a file all, up to 100,000.
    #[param(minimum = 1, maximum = 10_000)]
    limit: Option<u32>,
}

#[derive(Clone, Copy, Debug, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
enum Audit {
    With,
    Without,
    Only,
}

impl HistoryQuery {
    /// At most `usual`, where no limit is given.
    fn read(self, usual: u32) -> Result<Query, Refusal> {
        let limit = self.limit.unwrap_or(usual);
        if self.limit.is_some() && !(1..=MOST_RECORDS).contains(&limit) {
            let what = format!("`limit`: {limit} is not between 1 and {MOST_RECORDS}");
            return Err(Refusal::bad(what));
        }
        if self.operation.is_some_and(|id| i64::try_from(id).is_err()) {
            return Err(Refusal::bad("`operation`: no operation has such a number"));
        }
        let kinds = self.kind.map(|kinds| {
            let list = kinds.split(',').map(str::trim);
            list.filter(|kind| !kind.is_empty())
                .map(Into::into)
                .collect()
        });
        Ok(Query {
            workload: self.workload,
            operation: self.operation,
            node: self.node,
            kinds,
            level: self.level,
            audit: match self.audit {
                None | Some(Audit::With) => Only::All,
                Some(Audit::Without) => Only::Rest,
                Some(Audit::Only) => Only::Audit,
            },
            after: moment("after", self.after)?,
            before: moment("before", self.before)?,
            arrived_after: moment("arrived_after", self.arrived_after)?,
            limit,
        })
    }
}

type Asked = Result<web::Query<HistoryQuery>, actix_web::Error>;

fn asked(query: Asked) -> Result<HistoryQuery, Refusal> {
    let known =
        "workload, operation, node, kind, level, audit, after, before, arrived_after, limit";
    let refuse = |error| Refusal::bad(format!("{error}; known: {known}"));
    Ok(query.map_err(refuse)?.into_inner())
}

/// What happened, oldest first: of more than `limit` the newest. Older ones come with `before`.
#[utoipa::path(get, path = "/api/v1/history", params(HistoryQuery), responses((status = 200, body = HistoryReply)))]
pub async fn history(
    service: web::Data<Service>,
    _user: User,
    query: Asked,
) -> Result<HttpResponse, Refusal> {
    let query = asked(query)?.read(200)?;
    Ok(HttpResponse::Ok().json(records(&service, query).await?))
}

/// The same as one file of comma-separated values (RFC 4180).
#[utoipa::path(get, path = "/api/v1/history.csv", params(HistoryQuery), responses((status = 200, body = String, content_type = "text/csv")))]
pub async fn history_csv(
    service: web::Data<Service>,
    _user: User,
    query: Asked,
) -> Result<HttpResponse, Refusal> {
    let records = whole(&service, query).await?;
    Ok(file(
        &service,
        "csv",
        "text/csv; charset=utf-8",
        csv(&records),
    ))
}

/// The same as one file with an object on each line.
#[utoipa::path(get, path = "/api/v1/history.jsonl", params(HistoryQuery), responses((status = 200, body = String, content_type = "application/jsonl")))]
pub async fn history_jsonl(
    service: web::Data<Service>,
    _user: User,
    query: Asked,
) -> Result<HttpResponse, Refusal> {
    let records = whole(&service, query).await?;
    Ok(file(
        &service,
        "jsonl",
        "application/jsonl",
        lines(&records),
    ))
}

/// What a file has of it: nothing where it would not be all.
async fn whole(service: &Service, query: Asked) -> Result<Vec<Record>, Refusal> {
    let query = asked(query)?.read(MOST_EXPORTED)?;
    let reply = records(service, query).await?;
    if reply.own_only {
        return Err(Refusal::unavailable(
            "the history store does not answer: what could be exported is not the whole",
        ));
    }
    Ok(reply.records)
}

fn file(service: &Service, end: &str, kind: &str, text: String) -> HttpResponse {
    let name = format!(
        "attachment; filename=\"{}-history.{end}\"",
        service.spec().cluster
    );
    HttpResponse::Ok()
        .content_type(kind)
        .insert_header(("Content-Disposition", name))
        .body(text)
}

/// From the history store, else what this node still keeps.
pub async fn records(service: &Service, query: Query) -> Result<HistoryReply, Refusal> {
    if let Some(history) = &service.history {
        // Asked for first: what comes in between is there the next time.
        if let Ok(latest) = history.arrived().await
            && let Ok(records) = history.read(&query).await
        {
            let latest = Some(karst_history::rfc3339(latest));
            return Ok(HistoryReply {
                records,
                latest,
                own_only: false,
            });
        }
    }
    let (store, me) = (service.store.clone(), service.me.clone());
    let own = web::block(move || {
        let own = store.waiting(OWN).0.into_iter();
        let own = own.filter(|s| query.takes(s, &me));
        let own: Vec<Record> = own.map(|s| s.into_record(&me)).collect();
        let skip = own.len().saturating_sub(query.limit as usize);
        own.into_iter().skip(skip).collect::<Vec<_>>()
    });
    let records = own.await.map_err(|e| Refusal::unavailable(e.to_string()))?;
    Ok(HistoryReply {
        records,
        latest: None,
        own_only: true,
    })
}

/// As RFC 4180 has it. A spreadsheet takes what begins with certain signs for a formula: a quote
/// before them keeps it a text.
fn csv(records: &[Record]) -> String {
    let mut text = String::from("at,node,level,kind,workload,operation,text,data\r\n");
    let field = |value: &str| {
        let guard = if value.starts_with(['=', '+', '-', '@']) {
            "'"
        } else {
            ""
        };
        format!("\"{guard}{}\"", value.replace('"', "\"\""))
    };
    for record in records {
        let operation = record
            .operation
            .map_or(String::new(), |id| format!("op-{id}"));
        let data: Vec<String> = record
            .data
            .iter()
            .map(|(k, v)| format!("{k}={v}"))
            .collect();
        let fields = [
            record.at.as_str(),
            record.node.as_str(),
            record.level.word(),
            &record.kind,
            record.workload.as_deref().unwrap_or_default(),
            &operation,
            &record.text,
            &data.join("; "),
        ];
        let _ = write!(text, "{}\r\n", fields.map(field).join(","));
    }
    text
}

fn lines(records: &[Record]) -> String {
    let line = |record| serde_json::to_string(record).map_or(String::new(), |line| line + "\n");
    records.iter().map(line).collect()
}

fn moment(key: &str, text: Option<String>) -> Result<Option<OffsetDateTime>, Refusal> {
    let parse = |text: &str| OffsetDateTime::parse(text, &Rfc3339).ok();
    let read = |text: String| {
        parse(&text).ok_or_else(|| {
            Refusal::bad(format!(
                "`{key}`: {text:?} is not a moment; write it as 2026-11-28T09:30:00.5Z (RFC 3339)"
            ))
        })
    };
    text.map(read).transpose()
}
