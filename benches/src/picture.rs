//! The ratios as one picture: a bar for each, beside its bound.

use std::fmt::Write;

/// A ratio to draw.
#[derive(Debug)]
pub(crate) struct Bar<'a> {
    pub(crate) name: &'a str,
    pub(crate) figure: f64,
    pub(crate) spread: (f64, f64),
    pub(crate) bound: f64,
    pub(crate) held: bool,
    pub(crate) aim: String,
}

const WIDTH: f64 = 1180.0;
/// Where bars begin, and how long one of 1 is.
const LEFT: f64 = 520.0;
const ONE: f64 = 200.0;
/// The longest that is drawn: what is longer ends there.
const MOST: f64 = 2.2;
const ROW: f64 = 26.0;
const TOP: f64 = 66.0;

/// Draws bars in their order.
pub(crate) fn draw<'a>(bars: impl Iterator<Item = Bar<'a>>) -> String {
    let (mut drawn, mut y) = (String::new(), TOP);
    let at = |ratio: f64| LEFT + ratio.min(MOST) * ONE;
    for bar in bars {
        let middle = y + ROW / 2.0;
        let class = if bar.held { "held" } else { "missed" };
        let Bar {
            name, figure, aim, ..
        } = &bar;
        let (least, most) = bar.spread;
        // A String takes every write.
        let _ = write!(
            drawn,
            r#"
<text x="{}" y="{}" class="name">{name}</text>
<rect x="{LEFT}" y="{}" width="{}" height="14" rx="3" class="{class}"/>
<path d="M{} {middle}H{}" class="spread"/>
<path d="M{} {}v20" class="bound"/>
<text x="{}" y="{}">{figure:.2}, {aim}{}</text>"#,
            LEFT - 14.0,
            middle + 5.0,
            middle - 7.0,
            at(*figure) - LEFT,
            at(least),
            at(most),
            at(bar.bound),
            middle - 10.0,
            LEFT + (MOST + 0.08) * ONE,
            middle + 5.0,
            if bar.held { "" } else { ", missed" },
        );
        y += ROW;
    }
    let height = y + 24.0;
    let one = at(1.0);
    format!(
        r##"<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {WIDTH} {height}" role="img" aria-label="Ratios of Bent Lane to the bare relay and the bare responder, beside their bounds">
<style>
text {{ font: 15px 'Source Sans 3', 'Helvetica Neue', Arial, sans-serif; fill: #1f2430 }}
.title {{ font-size: 20px; font-weight: 600 }}
.name {{ text-anchor: end }}
.muted {{ fill: #6b7078 }}
.held {{ fill: #1f7a70 }}
.missed {{ fill: #c2402b }}
.spread {{ stroke: #1f2430; stroke-width: 1.5; opacity: 0.55 }}
.bound {{ stroke: #b87a0a; stroke-width: 3 }}
.one {{ stroke: #6b7078; stroke-dasharray: 3 4 }}
</style>
<rect width="{WIDTH}" height="{height}" fill="#faf8f3"/>
<text x="24" y="34" class="title">Bent Lane beside the bare one</text>
<text x="{one}" y="34" class="muted" text-anchor="middle">as much as the bare one</text>
<path d="M{one} 44V{}" class="one"/>
<text x="24" y="56" class="muted">thick: the median; thin: the spread of the rounds; amber: the bound</text>{drawn}
</svg>
"##,
        height - 14.0
    )
}
