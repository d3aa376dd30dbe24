//! Charts: SVG from rows of values, for HTML and PDF. `{{ bars(rows, x="month", y="dues") }}`, `{{ lines(rows, x="day", y=["in", "out"]) }}`.

use minijinja::value::{Kwargs, Value as Filling};
use minijinja::{Environment, Error, ErrorKind};
use plotters::prelude::*;

use crate::MOST_POINTS;

/// Colours of the series, in order; also apart in print without colours by their lightness.
const COLOURS: [RGBColor; 6] = [
    RGBColor(0x1d, 0x4e, 0x89),
    RGBColor(0xd9, 0x7b, 0x29),
    RGBColor(0x3c, 0x8d, 0x5a),
    RGBColor(0x8a, 0x4f, 0x9e),
    RGBColor(0x6b, 0x6b, 0x6b),
    RGBColor(0xb8, 0x3b, 0x3b),
];
const INK: RGBColor = RGBColor(0x33, 0x33, 0x33);
const GRID: RGBColor = RGBColor(0xdd, 0xdd, 0xdd);

/// Adds the functions that draw.
pub fn functions(environment: &mut Environment<'static>) {
    environment.add_function("bars", |rows: Vec<Filling>, how: Kwargs| draw(Kind::Bars, rows, &how));
    environment.add_function("lines", |rows: Vec<Filling>, how: Kwargs| draw(Kind::Lines, rows, &how));
}

#[derive(Clone, Copy, PartialEq)]
enum Kind {
    Bars,
    Lines,
}

/// What is drawn.
struct Chart {
    kind: Kind,
    size: (u32, u32),
    title: String,
    unit: String,
    labels: Vec<String>,
    series: Vec<(String, Vec<f64>)>,
}

fn wrong(message: impl Into<String>) -> Error {
    Error::new(ErrorKind::InvalidOperation, message.into())
}

fn draw(kind: Kind, rows: Vec<Filling>, how: &Kwargs) -> Result<Filling, Error> {
    let chart = read(kind, rows, how)?;
    how.assert_all_used()?;
    let mut svg = String::new();
    chart.draw(&mut svg).map_err(|error| wrong(format!("the chart cannot be drawn: {error}")))?;
    // Read by screen readers, and scaled to the page.
    let (width, height) = chart.size;
    let label = escape(&chart.title);
    let begin = format!("<svg role=\"img\" aria-label=\"{label}\" width=\"{width}\" height=\"{height}\" ");
    let rest = svg.find("viewBox").map_or(svg.as_str(), |at| &svg[at..]);
    Ok(Filling::from_safe_string(begin + rest))
}

fn read(kind: Kind, rows: Vec<Filling>, how: &Kwargs) -> Result<Chart, Error> {
    if rows.is_empty() {
        return Err(wrong("a chart has at least one row; leave it out where there are none: `{% if rows %}`"));
    }
    let x: String = how.get("x")?;
    let y: Filling = how.get("y")?;
    let names: Vec<String> = match y.as_str() {
        Some(name) => vec![name.to_owned()],
        None => y.try_iter()?.map(|name| name.to_string()).collect(),
    };
    if names.is_empty() || names.len() > COLOURS.len() {
        return Err(wrong(format!("a chart has 1 to {} series, not {}", COLOURS.len(), names.len())));
    }
    if rows.len() * names.len() > MOST_POINTS {
        return Err(wrong(format!("a chart has at most {MOST_POINTS} values, not {}", rows.len() * names.len())));
    }
    let text = |name: &str| how.get::<Option<String>>(name).map(Option::unwrap_or_default);
    let size = |name: &str, usual: u32| match how.get::<Option<u32>>(name)?.unwrap_or(usual) {
        size @ 100..=4000 => Ok(size),
        other => Err(wrong(format!("`{name}` is 100 to 4000 pixels, not {other}"))),
    };
    let mut labels = Vec::with_capacity(rows.len());
    let mut series: Vec<(String, Vec<f64>)> = names.into_iter().map(|name| (name, Vec::new())).collect();
    for (at, row) in rows.iter().enumerate() {
        let label = row.get_attr(&x)?;
        if label.is_undefined() {
            return Err(wrong(format!("row {} has no `{x}`", at + 1)));
        }
        labels.push(label.to_string());
        for (name, values) in &mut series {
            let value = f64::try_from(row.get_attr(name)?);
            let value = value.ok().filter(|value| value.is_finite());
            values.push(value.ok_or_else(|| wrong(format!("`{name}` of row {} is no number", at + 1)))?);
        }
    }
    let size = (size("width", 640)?, size("height", 280)?);
    Ok(Chart { kind, size, title: text("title")?, unit: text("unit")?, labels, series })
}

impl Chart {
    /// The lowest and the highest value on the axis, with room above.
    fn range(&self) -> (f64, f64) {
        let all = || self.series.iter().flat_map(|(_, values)| values.iter().copied());
        let (low, high) = (all().fold(0.0, f64::min), all().fold(0.0, f64::max));
        // The names of several series stand above the highest value.
        let names = if self.series.len() > 1 { 0.14 * self.series.len() as f64 } else { 0.0 };
        let room = (high - low).max(f64::MIN_POSITIVE) * (0.08 + names);
        match low == high {
            true => (0.0, 1.0),
            false => (if low < 0.0 { low - room } else { 0.0 }, high + if high > 0.0 { room } else { 0.0 }),
        }
    }

    fn draw(&self, svg: &mut String) -> Result<(), Box<dyn std::error::Error>> {
        let area = SVGBackend::with_string(svg, self.size).into_drawing_area();
        let (low, high) = self.range();
        let count = self.labels.len();
        let mut builder = ChartBuilder::on(&area);
        builder.margin(8).x_label_area_size(34).y_label_area_size(64);
        if !self.title.is_empty() {
            builder.caption(&self.title, ("sans-serif", 15).into_font().color(&INK));
        }
        let mut chart = builder.build_cartesian_2d(0.0..count as f64, low..high)?;
        let label = |at: &f64| self.labels.get(at.floor() as usize).cloned().unwrap_or_default();
        let number = |value: &f64| readable(*value);
        chart
            .configure_mesh()
            .disable_x_mesh()
            .disable_x_axis()
            .light_line_style(TRANSPARENT)
            .bold_line_style(GRID)
            .axis_style(INK)
            .label_style(("sans-serif", 12).into_font().color(&INK))
            .y_labels(6)
            .y_desc(&self.unit)
            .y_label_formatter(&number)
            .draw()?;
        let wide = self.series.len() as f64;
        for (at, (name, values)) in self.series.iter().enumerate() {
            let colour = COLOURS[at % COLOURS.len()];
            let drawn = match self.kind {
                Kind::Bars => {
                    let (gap, bar) = (0.15, 0.7 / wide);
                    chart.draw_series(values.iter().enumerate().map(|(row, value)| {
                        let left = row as f64 + gap + bar * at as f64;
                        Rectangle::new([(left, 0.0), (left + bar, *value)], colour.filled())
                    }))?
                }
                Kind::Lines => {
                    let points = || values.iter().enumerate().map(|(row, value)| (row as f64 + 0.5, *value));
                    if count <= 60 {
                        chart.draw_series(points().map(|point| Circle::new(point, 3, colour.filled())))?;
                    }
                    chart.draw_series(LineSeries::new(points(), colour.stroke_width(2)))?
                }
            };
            if self.series.len() > 1 {
                drawn.label(name).legend(move |(x, y)| Rectangle::new([(x, y - 5), (x + 10, y + 5)], colour.filled()));
            }
        }
        // Each label is centred below its row; when they would overlap, only every n-th is drawn.
        let every = count.div_ceil((self.size.0 as usize / 60).max(1));
        let style = TextStyle::from(("sans-serif", 12).into_font()).color(&INK);
        let style = style.pos(plotters::style::text_anchor::Pos::new(
            plotters::style::text_anchor::HPos::Center,
            plotters::style::text_anchor::VPos::Top,
        ));
        let plane = chart.plotting_area();
        for at in (0..count).step_by(every.max(1)) {
            let (x, _) = plane.map_coordinate(&(at as f64 + 0.5, low));
            let (_, bottom) = plane.map_coordinate(&(0.0, low));
            area.draw(&Text::new(label(&(at as f64)), (x, bottom + 6), style.clone()))?;
        }
        if self.series.len() > 1 {
            chart
                .configure_series_labels()
                .position(SeriesLabelPosition::UpperRight)
                .legend_area_size(14)
                .margin(4)
                .background_style(WHITE.mix(0.85))
                .label_font(("sans-serif", 12).into_font().color(&INK))
                .draw()?;
        }
        area.present()?;
        Ok(())
    }
}

/// A number on an axis: as few digits as it needs, thousands apart.
fn readable(value: f64) -> String {
    let text = if value.abs() >= 100.0 { format!("{value:.0}") } else { format!("{:.2}", value) };
    let text = text.trim_end_matches('0').trim_end_matches('.').to_owned();
    let text = if value.abs() >= 100.0 { format!("{value:.0}") } else { text };
    let (sign, digits) = text.strip_prefix('-').map_or(("", text.as_str()), |rest| ("-", rest));
    let (whole, rest) = digits.find('.').map_or((digits, ""), |at| digits.split_at(at));
    let mut out = sign.to_owned();
    for (at, digit) in whole.chars().enumerate() {
        if at > 0 && (whole.len() - at) % 3 == 0 {
            out.push('\u{202f}');
        }
        out.push(digit);
    }
    out + rest
}

fn escape(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('"', "&quot;")
}
