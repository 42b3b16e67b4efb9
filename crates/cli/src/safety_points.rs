//! Safety points: taken before risky work, kept, gone back to, dropped.

use crate::act::approved;
use crate::arguments::{Changed, Consent, NewPoint};
use crate::ending::Ending;
use crate::intents::{after_plan, plan_text, watch, wished};
use crate::output::{Format, columns, print, remark, size, utc};
use anyhow::{Result, bail};
use karst_api::core::WorkloadId;
use karst_api::core::text::span;
use karst_api::core::view::{IntentKind, IntentView, SafetyPointView};
use karst_api::{Client, SafetyPointBody, WishBody};
use std::time::Duration;

pub async fn take(client: &Client, new: &NewPoint, format: Format) -> Result<Ending> {
    let workload = new.workload.as_str();
    let body = SafetyPointBody {
        name: new.name.clone(),
        node: new.on.as_deref().map(Into::into),
        bare: new.bare,
        for_seconds: new.time.map(|time| time.as_secs()),
        why: new.change.why.clone(),
        seen: None,
        plan_only: true,
    };
    let plan = client.safety_point_plan(workload, &body).await?;
    print(format, &plan, plan_text)?;
    let begin = async |seen| {
        let body = SafetyPointBody {
            seen: Some(seen),
            plan_only: false,
            ..body
        };
        client.safety_point(workload, &body).await
    };
    let typed = ("workload", workload);
    after_plan(client, plan, &new.change.consent, typed, format, begin).await
}

pub async fn go_back(
    client: &Client,
    workload: &str,
    change: Changed,
    format: Format,
) -> Result<Ending> {
    let plan = async |body: &WishBody| client.go_back_plan(workload, body).await;
    let begin = async |body: &WishBody| client.go_back(workload, body).await;
    let typed = ("workload", workload);
    let consent = (change.why, &change.consent);
    wished(client, consent, typed, format, plan, begin).await
}

pub async fn drop_one(
    client: &Client,
    workload: &str,
    consent: &Consent,
    format: Format,
) -> Result<Ending> {
    let status = client.status().await?.status;
    let mut workloads = status.workloads.iter();
    let point = workloads.find(|w| w.workload.as_str() == workload);
    if let Some(point) = point.and_then(|w| w.safety_point.as_ref()) {
        let what = format!(
            "{} of {workload} is dropped: its standby on {} follows again, and {workload} cannot go back to it any more\n",
            point.name, point.node
        );
        remark(format, &what);
    }
    let of_it = |i: &&IntentView| {
        let about = i.workload.as_ref().map(WorkloadId::as_str);
        i.kind == IntentKind::SafetyPoint && about == Some(workload)
    };
    let Some(kept) = status.intents.iter().find(of_it) else {
        bail!("nothing was changed: no safety point of {workload} is kept");
    };
    if consent.plan {
        return Ok(Ending::Done);
    }
    if !kept.turned {
        if !consent.yes && !approved("workload", workload)? {
            bail!("nothing was changed: not approved");
        }
        let reply = client.end(kept.id).await?;
        remark(format, &format!("{}\n", reply.text));
    }
    watch(client, kept.id, format).await
}

pub async fn list(client: &Client, format: Format) -> Result<Ending> {
    let status = client.status().await?.status;
    let all = status.workloads.into_iter();
    let all: Vec<(WorkloadId, SafetyPointView)> = all
        .filter_map(|w| Some((w.workload, w.safety_point?)))
        .collect();
    print(format, &all, |all| {
        if all.is_empty() {
            return "no safety point is kept\n".into();
        }
        let row = |(workload, point): &(WorkloadId, SafetyPointView)| {
            [
                workload.to_string(),
                point.name.clone(),
                point.node.to_string(),
                if point.stands { "stands" } else { "on its way" }.into(),
                age(point),
                point.written_since.map_or("not known".into(), size),
                point.until.map_or("it is dropped".into(), utc),
                point.by.to_string(),
                point.why.clone().unwrap_or_default(),
            ]
        };
        let head = [
            "WORKLOAD",
            "POINT",
            "ON",
            "STATE",
            "AGE",
            "WRITTEN SINCE",
            "KEPT UNTIL",
            "BY",
            "WHY",
        ];
        columns(head, all.iter().map(row))
    })?;
    Ok(Ending::Done)
}

pub fn age(point: &SafetyPointView) -> String {
    match point.age_ms {
        None => "not known".into(),
        Some(0) => "under 1 s".into(),
        Some(ms) => span(Duration::from_millis(ms)),
    }
}
