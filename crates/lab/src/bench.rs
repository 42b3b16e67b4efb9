//! The measured table.

use anyhow::Result;
use clap::Args;
use std::path::Path;

#[derive(Args, Debug)]
pub struct Options {
    /// Rounds of each drill and of the oracle
    #[arg(long, default_value_t = 20)]
    pub rounds: u32,
}

/// The value below which a share of the sorted values lies (nearest rank).
pub fn quantile(sorted: &[f64], share: f64) -> f64 {
    let rank = (share * sorted.len() as f64).ceil().max(1.0) as usize;
    sorted.get(rank - 1).or(sorted.last()).copied().unwrap_or(f64::NAN)
}

pub async fn run(_dir: &Path, _options: Options) -> Result<()> {
    Ok(())
}
