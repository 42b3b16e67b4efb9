//! Where the time of each fault goes, as a picture: one bar for each, its phases at their medians,
//! and the worst case that was printed beforehand.

use super::report::Report;
use anyhow::{Result, anyhow};
use plotters::prelude::*;
use std::path::Path;

/// Phase after phase; no two neighbours alike for people who see no red or green.
const COLOURS: [RGBColor; 6] = [
    RGBColor(0x00, 0x4d, 0x66),
    RGBColor(0x4c, 0xa6, 0xb8),
    RGBColor(0xe0, 0x9f, 0x3e),
    RGBColor(0x7a, 0x3b, 0x69),
    RGBColor(0xb9, 0xc9, 0x6a),
    RGBColor(0x5b, 0x5f, 0x66),
];
const SIZE: (u32, u32) = (1160, 520);

/// # Errors
/// If the file cannot be written.
pub fn draw(path: &Path, drills: &[Report]) -> Result<()> {
    // The library's errors borrow from the canvas.
    paint(path, drills).map_err(|e| anyhow!("{}: {e}", path.display()))
}

fn paint(path: &Path, drills: &[Report]) -> Result<(), Box<dyn std::error::Error>> {
    let canvas = SVGBackend::new(path, SIZE).into_drawing_area();
    canvas.fill(&WHITE)?;
    let longest = drills
        .iter()
        .map(|d| d.longest().max(d.worst.unwrap_or(0) as f64))
        .fold(1.0, f64::max);
    let rows = drills.len() as f64;
    let mut chart = ChartBuilder::on(&canvas)
        .margin(16)
        .margin_top(84)
        .x_label_area_size(44)
        .y_label_area_size(190)
        .build_cartesian_2d(0.0..longest * 1.04, 0.0..rows)?;
    let names: Vec<String> = drills
        .iter()
        .map(|d| format!("{} ({})", d.name(), d.rounds.len()))
        .collect();
    chart
        .configure_mesh()
        .disable_y_mesh()
        .disable_y_axis()
        .y_labels(0)
        .light_line_style(WHITE)
        .x_desc("milliseconds")
        .x_label_formatter(&|ms| format!("{ms:.0}"))
        .label_style(("sans-serif", 15))
        .draw()?;
    for (row, report) in drills.iter().enumerate() {
        // The first fault on top.
        let bottom = rows - row as f64 - 0.8;
        let top = bottom + 0.6;
        let mut from = 0.0;
        for ((_, ms), colour) in report.phases().iter().zip(COLOURS) {
            chart.draw_series([Rectangle::new(
                [(from, bottom), (from + ms, top)],
                colour.filled(),
            )])?;
            from += ms;
        }
        chart.draw_series([Circle::new(
            (report.longest(), (bottom + top) / 2.0),
            4,
            BLACK.filled(),
        )])?;
        if let Some(worst) = report.worst {
            let line = vec![(worst as f64, bottom - 0.1), (worst as f64, top + 0.1)];
            chart.draw_series([PathElement::new(line, BLACK.stroke_width(2))])?;
        }
    }
    let (left, plot) = (
        chart.plotting_area().get_pixel_range().0.start,
        chart.plotting_area().get_pixel_range().1,
    );
    let height = f64::from(plot.end - plot.start) / rows.max(1.0);
    for (row, name) in names.iter().enumerate() {
        let y = f64::from(plot.start) + height * (row as f64 + 0.5) - 8.0;
        canvas.draw(&Text::new(name.clone(), (20, y as i32), ("sans-serif", 15)))?;
    }
    let caption = "Nobody could write for so long: medians of the phases; dot: longest round; line: worst case, printed before";
    canvas.draw(&Text::new(caption, (20, 16), ("sans-serif", 19)))?;
    if let Some(first) = drills.first() {
        for (i, ((phase, _), colour)) in first.phases().iter().zip(COLOURS).enumerate() {
            let (x, y) = (left + 150 * i as i32, 66);
            canvas.draw(&Rectangle::new([(x, y - 12), (x + 14, y)], colour.filled()))?;
            canvas.draw(&Text::new(
                phase.clone(),
                (x + 20, y - 13),
                ("sans-serif", 15),
            ))?;
        }
    }
    canvas.present()?;
    Ok(())
}
