use std::fmt;
use std::time::Duration;

use serde_json::{Value, json};

/// How much to measure.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Scale {
    /// Rounds of each comparison; both sides take a turn in each.
    pub(crate) rounds: usize,
    /// Requests of each side in a round over many connections.
    pub(crate) requests: usize,
    /// Blocks of a hundred requests of each side over one connection.
    pub(crate) blocks: usize,
    /// DNS questions of each side in a round.
    pub(crate) questions: usize,
    /// Starts of the service.
    pub(crate) starts: usize,
    /// Routes for the comparison with many.
    pub(crate) many: usize,
    /// How long checks in the background are watched.
    pub(crate) background: Duration,
}

impl Scale {
    pub(crate) const FULL: Self = Self {
        rounds: 11,
        requests: 12_000,
        blocks: 150,
        questions: 40_000,
        starts: 7,
        many: 100_000,
        background: Duration::from_secs(60),
    };
    pub(crate) const SHORT: Self = Self {
        rounds: 3,
        requests: 1_000,
        blocks: 10,
        questions: 4_000,
        starts: 2,
        many: 5_000,
        background: Duration::from_secs(5),
    };
}

/// What a figure is to stay below.
#[derive(Clone, Copy, Debug)]
pub(crate) struct AtMost(pub(crate) f64);

impl AtMost {
    fn holds(self, value: f64) -> bool {
        value <= self.0
    }
}

impl fmt::Display for AtMost {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "≤ {}", self.0)
    }
}

#[derive(Debug)]
struct Row {
    name: String,
    unit: &'static str,
    bare: Option<f64>,
    ours: f64,
    /// Ratio of ours to the bare one in each round; without a bare one, the figure itself.
    rounds: Vec<f64>,
    aim: Option<AtMost>,
}

impl Row {
    fn figure(&self) -> f64 {
        median(&self.rounds)
    }
}

/// All figures of a run.
#[derive(Debug, Default)]
pub(crate) struct Report {
    rows: Vec<Row>,
}

impl Report {
    /// Adds a comparison: what both sides took (or did) in each round, in `unit`.
    pub(crate) fn compare(
        &mut self,
        name: impl Into<String>,
        unit: &'static str,
        pairs: &[(f64, f64)],
        aim: Option<AtMost>,
    ) {
        let (bare, ours): (Vec<_>, Vec<_>) = pairs.iter().copied().unzip();
        self.push(Row {
            name: name.into(),
            unit,
            bare: Some(median(&bare)),
            ours: median(&ours),
            rounds: pairs.iter().map(|(bare, ours)| ours / bare).collect(),
            aim,
        });
    }

    /// Adds a figure that has nothing to be compared with.
    pub(crate) fn alone(
        &mut self,
        name: impl Into<String>,
        unit: &'static str,
        figures: Vec<f64>,
        aim: AtMost,
    ) {
        self.push(Row {
            name: name.into(),
            unit,
            bare: None,
            ours: median(&figures),
            rounds: figures,
            aim: Some(aim),
        });
    }

    /// Adds the resident memory of the service.
    pub(crate) fn memory(&mut self, when: &str, kib: u64) {
        #[allow(clippy::cast_precision_loss, reason = "memory is far below 2^52 KiB")]
        let mib = kib as f64 / 1024.0;
        let aim = AtMost(60.0);
        self.alone(format!("resident memory, {when}"), "MiB", vec![mib], aim);
    }

    fn push(&mut self, row: Row) {
        eprintln!("  {:<44} {:>8.2}", row.name, row.figure());
        self.rows.push(row);
    }

    pub(crate) fn within_aims(&self) -> bool {
        self.rows
            .iter()
            .all(|row| row.aim.is_none_or(|aim| aim.holds(row.figure())))
    }

    /// Prints all figures as a Markdown table.
    pub(crate) fn print(&self) {
        println!("| figure | bare | Bent Lane | ratio | spread | aim |");
        println!("| --- | ---: | ---: | ---: | ---: | ---: |");
        for row in &self.rows {
            let figure = row.figure();
            let spread = match row.rounds.len() {
                1 => String::new(),
                _ => {
                    let least = row.rounds.iter().copied().fold(f64::INFINITY, f64::min);
                    let most = row.rounds.iter().copied().fold(0.0, f64::max);
                    format!("{least:.2} to {most:.2}")
                }
            };
            let (bare, ratio) = match row.bare {
                Some(bare) => (format!("{bare:.1}"), format!("{figure:.2}")),
                None => Default::default(),
            };
            let aim = row.aim.map_or_else(String::new, |aim| {
                let missed = if aim.holds(figure) { "" } else { ", missed" };
                format!("{aim}{missed}")
            });
            let (name, unit, ours) = (&row.name, row.unit, row.ours);
            println!("| {name}, {unit} | {bare} | {ours:.1} | {ratio} | {spread} | {aim} |");
        }
    }

    pub(crate) fn json(&self) -> String {
        let rows = self.rows.iter().map(|row| {
            json!({
                "name": row.name,
                "unit": row.unit,
                "bare": row.bare,
                "ours": row.ours,
                "ratio": row.bare.map(|_| row.figure()),
                "rounds": row.rounds,
                "aim": row.aim.map(|aim| aim.to_string()),
                "held": row.aim.map(|aim| aim.holds(row.figure())),
            })
        });
        format!("{:#}\n", Value::from_iter(rows))
    }
}

/// The middle of some figures.
pub(crate) fn median(figures: &[f64]) -> f64 {
    quantile(figures, 0.5)
}

/// The figure below which the part `q` of all lies (nearest rank).
#[allow(
    clippy::cast_possible_truncation,
    clippy::cast_precision_loss,
    clippy::cast_sign_loss,
    reason = "a rank among a few thousand figures"
)]
pub(crate) fn quantile(figures: &[f64], q: f64) -> f64 {
    let mut sorted = figures.to_vec();
    sorted.sort_by(f64::total_cmp);
    let rank = (q * sorted.len() as f64).ceil().max(1.0) as usize;
    sorted[rank - 1]
}

/// A time in microseconds.
pub(crate) fn micros(time: Duration) -> f64 {
    time.as_secs_f64() * 1e6
}
