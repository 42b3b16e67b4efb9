//! A standby that was away for longer than its primary keeps the log comes home by a copy, without
//! anybody's doing (D9).

use crate::rig::{LIMIT, TestLab};
use anyhow::{Context, Result, ensure};
use karst_api::core::event::FactKind;
use karst_lab::fault::{self, Fault};
use karst_lab::shape::Shape;
use karst_lab::{Lab, drill};

#[tokio::test(flavor = "multi_thread")]
async fn a_standby_whose_log_is_gone_is_copied() {
    // As little as a server can be told to keep.
    let settings = vec![
        "wal_keep_size=8MB".into(),
        "min_wal_size=8MB".into(),
        "max_wal_size=16MB".into(),
    ];
    let lab = TestLab::shaped(
        "test-home",
        9940,
        Shape {
            settings,
            ..Shape::default()
        },
    )
    .await
    .unwrap();
    away_for_too_long(&lab).await.unwrap();
}

async fn away_for_too_long(lab: &Lab) -> Result<()> {
    let well = lab.healthy(LIMIT).await?.status;
    let away = well.workloads[0]
        .sync
        .sure
        .iter()
        .find(|n| Some(*n) != well.coordinator.as_ref());
    let away = away.context("a standby that does not lead")?.clone();
    let primary = lab.administrator(&lab.primary().await?).await?;
    let newest = "select pg_walfile_name(pg_current_wal_insert_lsn())";
    let needed: String = primary.query_one(newest, &[]).await?.get(0);
    fault::apply(
        &lab.layout,
        &Fault::PowerOff {
            host: away.to_string(),
        },
    )?;
    let load = drill::start_load(&lab.layout, "home", 1, 2)?;
    lab.wait("it has left the sync set", LIMIT, |r| {
        !r.status.workloads[0].sync.sure.contains(&away)
    })
    .await?;
    primary
        .batch_execute("set synchronous_commit = local; create table ballast (t text)")
        .await?;
    let kept = "select exists (select from pg_ls_waldir() where name = $1)";
    let mut written = 0;
    while primary.query_one(kept, &[&needed]).await?.get(0) {
        ensure!(written < 100, "the primary keeps its log for ever");
        written += 1;
        primary
            .batch_execute(
                "insert into ballast select repeat('x', 1000) from generate_series(1, 4000)",
            )
            .await?;
        primary.batch_execute("checkpoint").await?;
    }
    fault::apply(
        &lab.layout,
        &Fault::PowerOn {
            host: away.to_string(),
        },
    )?;
    lab.healthy(LIMIT).await?;
    let stranded = lab.records(FactKind::Stranded).await?;
    ensure!(
        stranded.iter().any(|r| r.node == away),
        "no record says why {away} was copied: {stranded:?}"
    );
    let (acknowledged, missing) = drill::compare(lab, &load.finish()?).await?;
    ensure!(
        acknowledged > 0 && missing.iter().all(|(_, n)| *n == 0),
        "{missing:?} of {acknowledged}"
    );
    Ok(())
}
