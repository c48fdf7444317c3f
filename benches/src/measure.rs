use std::fmt;
use std::time::Duration;

use serde_json::{Value, json};

use crate::picture;

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
    /// Megabytes of a long transfer.
    pub(crate) megabytes: usize,
    /// Connections that are kept idle.
    pub(crate) idle: usize,
    /// How long exchanges come in at a steady rate.
    pub(crate) steady: Duration,
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
        megabytes: 100,
        idle: 2_000,
        steady: Duration::from_secs(60),
    };
    pub(crate) const SHORT: Self = Self {
        rounds: 3,
        requests: 1_000,
        blocks: 10,
        questions: 4_000,
        starts: 2,
        many: 5_000,
        background: Duration::from_secs(5),
        megabytes: 20,
        idle: 200,
        steady: Duration::from_secs(3),
    };
}

/// What a figure is to keep to.
#[derive(Clone, Copy, Debug)]
pub(crate) enum Aim {
    AtMost(f64),
    AtLeast(f64),
}

impl Aim {
    fn holds(self, value: f64) -> bool {
        match self {
            Self::AtMost(bound) => value <= bound,
            Self::AtLeast(bound) => value >= bound,
        }
    }

    fn bound(self) -> f64 {
        match self {
            Self::AtMost(bound) | Self::AtLeast(bound) => bound,
        }
    }
}

impl fmt::Display for Aim {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::AtMost(bound) => write!(f, "≤ {bound}"),
            Self::AtLeast(bound) => write!(f, "≥ {bound}"),
        }
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
    aim: Option<Aim>,
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

/// KiB as MiB.
#[allow(clippy::cast_precision_loss, reason = "memory is far below 2^52 KiB")]
pub(crate) fn mib(kib: u64) -> f64 {
    kib as f64 / 1024.0
}

impl Report {
    /// Adds a comparison: what both sides took (or did) in each round, in `unit`.
    pub(crate) fn compare(
        &mut self,
        name: impl Into<String>,
        unit: &'static str,
        pairs: &[(f64, f64)],
        aim: Option<Aim>,
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
        aim: Aim,
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

    /// Adds a figure that has no bound.
    pub(crate) fn add(&mut self, name: &str, unit: &'static str, figure: f64) {
        self.push(Row {
            name: name.to_owned(),
            unit,
            bare: None,
            ours: figure,
            rounds: vec![figure],
            aim: None,
        });
    }

    /// Adds the resident memory of the service.
    pub(crate) fn memory(&mut self, when: &str, kib: u64) {
        let aim = Aim::AtMost(60.0);
        self.alone(
            format!("resident memory, {when}"),
            "MiB",
            vec![mib(kib)],
            aim,
        );
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
                    let (least, most) = spread(&row.rounds);
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

    /// Draws each ratio as a bar beside its bound, as SVG.
    pub(crate) fn picture(&self) -> String {
        picture::draw(self.rows.iter().filter_map(|row| {
            let aim = row.aim.filter(|_| row.bare.is_some())?;
            Some(picture::Bar {
                name: &row.name,
                figure: row.figure(),
                spread: spread(&row.rounds),
                bound: aim.bound(),
                held: aim.holds(row.figure()),
                aim: aim.to_string(),
            })
        }))
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

/// The least and the most of some figures.
fn spread(figures: &[f64]) -> (f64, f64) {
    let least = figures.iter().copied().fold(f64::INFINITY, f64::min);
    let most = figures.iter().copied().fold(0.0, f64::max);
    (least, most)
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
