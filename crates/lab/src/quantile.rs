//! Figures of many rounds in one.

/// The value below which a share of the sorted values lies (nearest rank).
pub fn quantile(sorted: &[f64], share: f64) -> f64 {
    let rank = (share * sorted.len() as f64).ceil().max(1.0) as usize;
    sorted
        .get(rank - 1)
        .or(sorted.last())
        .copied()
        .unwrap_or(f64::NAN)
}

/// Of two quantiles; of nothing there is none.
pub fn ratio(of: &[f64], to: &[f64], share: f64) -> String {
    let ratio = quantile(of, share) / quantile(to, share);
    if ratio.is_finite() {
        format!("{ratio:.2}")
    } else {
        "unknown".into()
    }
}

#[cfg(test)]
mod tests {
    use super::{quantile, ratio};

    #[test]
    fn quantiles_are_nearest_ranks() {
        let values: Vec<f64> = (1..=20).map(f64::from).collect();
        assert_eq!(
            [
                quantile(&values, 0.5),
                quantile(&values, 0.95),
                quantile(&values, 1.0)
            ],
            [10.0, 19.0, 20.0]
        );
        assert_eq!(
            (
                ratio(&values, &[4.0], 0.5).as_str(),
                ratio(&values, &[], 0.5).as_str()
            ),
            ("2.50", "unknown")
        );
    }
}
