//! A profile as one self-contained page without network access or external scripts. It is readable without scripts; with them, points show
//! tooltips for pointer and keyboard, and the page switches between dark and light.

use maud::{DOCTYPE, Markup, PreEscaped, html};
use plotters::style::RGBColor;

use crate::chart::{
    COLOURS, CUSTOM_SHADES, Chart, FAINT, GREY, INK, LIMIT, Layers, PAPER, SHADES, Scale, headline, layers,
    shade,
};
use crate::error::ProfileError;
use crate::numbers::short;
use crate::profile::{Point, Profile, VariantProfile};
use crate::table::ms;

/// Returns the page as HTML text.
///
/// # Errors
/// A chart cannot be drawn.
pub fn report(profile: &Profile) -> Result<String, ProfileError> {
    let title = headline(profile);
    let charts = [
        ("What frames are made of", Chart::stages(profile)),
        ("How far they spread", Chart::spread(profile)),
        ("Frame after frame", Chart::timeline(profile)),
    ];
    let movement = Chart::movement(profile).map(|chart| ("How its flock moves", chart));
    let mut figures = Vec::new();
    for (name, chart) in charts.into_iter().chain(movement) {
        figures.push((name, chart.svg()?));
    }
    let scales = [("log", layers(profile, Scale::Log)?), ("linear", layers(profile, Scale::Linear)?)];
    let page = html! {
        (DOCTYPE)
        html lang="en" {
            head {
                meta charset="utf-8";
                meta name="viewport" content="width=device-width, initial-scale=1";
                meta name="color-scheme" content="light dark";
                title { (title) }
                style { (PreEscaped(style(profile))) }
            }
            body {
                header {
                    div {
                        h1 { (title) }
                        p { (measured(profile)) }
                    }
                    button #turn type="button" hidden { "Dark or light" }
                }
                main {
                    (curve(profile, &scales))
                    @for (name, svg) in &figures {
                        section {
                            h2 { (name) }
                            div .chart { (picture(name, "30 0 1240 800", inner(svg), &html! {})) }
                        }
                    }
                    (findings(profile))
                    (machine(profile))
                    (points(profile))
                    (source(profile))
                }
                div #tip role="status" hidden {}
                script { (PreEscaped(SCRIPT)) }
            }
        }
    };
    Ok(page.into_string())
}

/// Description of the measurement and machine.
fn measured(profile: &Profile) -> String {
    let (machine, points) =
        (&profile.machine, profile.variants.iter().map(|it| it.points.len()).sum::<usize>());
    let device = machine.device.as_ref().map_or(String::new(), |device| format!(", and {device}"));
    let cut = if profile.interrupted { "; it was interrupted, and all its points are complete" } else { "" };
    format!(
        "{points} points of {} frames at most; {} threads, {} on {}, {}{device}{cut}.",
        profile.frames, machine.threads, machine.instruction_set, machine.architecture, machine.system
    )
}

/// The main chart with switches for its lines.
fn curve(profile: &Profile, scales: &[(&str, Layers); 2]) -> Markup {
    let shown: Vec<&VariantProfile> = profile.measured().collect();
    html! {
        section #curve {
            h2 { "Frame time against count" }
            div .switches {
                fieldset {
                    legend { "Axes" }
                    label { input #log type="radio" name="axes" checked; " logarithmic" }
                    label { input #linear type="radio" name="axes"; " linear" }
                }
                @if shown.len() > 1 {
                    fieldset {
                        legend { "Show" }
                        @for (nth, variant) in shown.iter().enumerate() {
                            label {
                                input type="checkbox" checked id={ "s" (nth) };
                                span .key style={ "background:" (hex(COLOURS[nth % COLOURS.len()])) } {}
                                " " (variant.name)
                            }
                        }
                    }
                }
            }
            @for (scale, layers) in scales {
                div class={ "chart " (scale) } {
                    (picture("frame time against count", "30 58 1240 742", inner(&layers.ground), &html! {
                        @for (nth, line) in layers.lines.iter().enumerate() {
                            g class={ "series s" (nth) } {
                                (PreEscaped(inner(line)))
                                @for (&(x, y), point) in layers.points[nth].iter().zip(&shown[nth].points) {
                                    @let tooltip = tooltip(shown[nth], point, profile);
                                    circle .hit cx=(x) cy=(y) r="13" tabindex="0" role="img"
                                        aria-label=(tooltip) data-tooltip=(tooltip) {
                                        title { (tooltip) }
                                    }
                                }
                            }
                        }
                    }))
                }
            }
        }
    }
}

/// Tooltip of a point.
fn tooltip(variant: &VariantProfile, point: &Point, profile: &Profile) -> String {
    let most = point.costliest().into_iter().next();
    let most = most.map_or(String::new(), |stage| format!("\nmost: {} {} ms", stage.stage, ms(stage.ms)));
    format!(
        "{} at {} {}\nmedian {} ms ({} to {})\np95 {}, worst {}\n{} draw calls{most}",
        variant.name,
        short(point.count),
        profile.population,
        ms(point.frame.median),
        ms(point.frame.interval.low),
        ms(point.frame.interval.high),
        ms(point.frame.p95),
        ms(point.frame.worst),
        point.draw_calls,
    )
}

/// Findings: growth, equality of pictures, disturbances, reasons for stopping.
fn findings(profile: &Profile) -> Markup {
    let lines = profile.findings();
    html! {
        @if !lines.is_empty() {
            section {
                h2 { "What follows" }
                ul { @for line in &lines { li { (line) } } }
            }
        }
    }
}

/// Stages of each variant's highest count relative to the limits of the machine.
fn machine(profile: &Profile) -> Markup {
    let tops = profile.variants.iter().filter_map(|variant| Some((variant, variant.points.last()?)));
    html! {
        section {
            h2 { "Against the machine" }
            p { (profile.limits()) }
            @for (variant, point) in tops {
                h3 { (variant.name) " at " (short(point.count)) }
                div .wide { table {
                    thead { tr {
                        th scope="col" { "stage" }
                        @for head in ["ms", "of the frame", "ns an element", "bytes an element", "GB/s", "of the limit"] {
                            th scope="col" { (head) }
                        }
                    } }
                    tbody { @for row in point.against() {
                        tr {
                            th scope="row" { span .key style={ "background:" (hex(shade(&row.stage))) } {} " " (row.stage) }
                            td { (ms(row.ms)) }
                            td { (format!("{:.0} %", row.share * 100.0)) }
                            td { (format!("{:.1}", row.ns_per_element)) }
                            @match row.moved {
                                Some(moved) => {
                                    td { (format!("{:.0}", moved.bytes_per_element)) }
                                    td { (format!("{:.1}", moved.gb_per_s)) }
                                    td class=[(moved.of_limit >= 0.5).then_some("bound")] {
                                        (format!("{:.0} %", moved.of_limit * 100.0))
                                    }
                                }
                                None => { td {} td {} td {} }
                            }
                        }
                    } }
                } }
            }
        }
    }
}

/// Table of all points.
fn points(profile: &Profile) -> Markup {
    let heads = [
        "count",
        "alive",
        "median ms",
        "from",
        "to",
        "p95",
        "p99",
        "worst",
        "missed",
        "CPU ms",
        "busy cores",
        "draw calls",
        "B an element",
        "MiB",
        "frames",
        "disturbed",
    ];
    html! {
        section {
            h2 { "All points" }
            div .wide { table {
                thead { tr { th scope="col" { "variant" } @for head in heads { th scope="col" { (head) } } } }
                tbody { @for variant in &profile.variants { @for point in &variant.points {
                    @let it = point.frame;
                    tr {
                        th scope="row" { (variant.name) }
                        @for cell in [
                            point.count.to_string(), point.alive.to_string(), ms(it.median), ms(it.interval.low),
                            ms(it.interval.high), ms(it.p95), ms(it.p99), ms(it.worst),
                            format!("{:.0} %", it.missed * 100.0), ms(point.cpu_ms), format!("{:.2}", point.noise.cores),
                            point.draw_calls.to_string(), format!("{:.0}", point.bytes_per_element),
                            (point.peak_memory >> 20).to_string(), point.frames.to_string(),
                            point.noise.disturbed.to_string(),
                        ] { td { (cell) } }
                    }
                } } }
            } }
        }
    }
}

/// Settings for repeating the measurement.
fn source(profile: &Profile) -> Markup {
    html! {
        section {
            h2 { "To measure it again" }
            @if profile.variants.iter().any(|variant| !variant.settings.is_empty()) {
                ul { @for variant in &profile.variants {
                    li { (variant.name) ": "
                        @for (nth, (key, value)) in variant.settings.iter().enumerate() {
                            @if nth > 0 { ", " }
                            code { (key) "=" (value) }
                        }
                    }
                } }
            }
            @if profile.scene_text.is_empty() {
                p { "Not a scene file: the program that measured it has the rest." }
            } @else {
                details { summary { "The scene" } pre { (profile.scene_text) } }
            }
        }
    }
}

/// A section of a picture of 1280 by 800, with an overlay.
fn picture(name: &str, window: &str, inner: &str, over: &Markup) -> Markup {
    html! {
        svg viewBox=(window) role="img" aria-label=(name) xmlns="http://www.w3.org/2000/svg" {
            (PreEscaped(inner))
            (over)
        }
    }
}

/// Content of the outermost element of an SVG text.
fn inner(svg: &str) -> &str {
    let start = svg.find('>').map_or(0, |at| at + 1);
    let end = svg.rfind("</svg>").unwrap_or(svg.len());
    svg.get(start..end).unwrap_or_default()
}

fn hex(RGBColor(r, g, b): RGBColor) -> String {
    format!("#{r:02X}{g:02X}{b:02X}")
}

/// A lighter colour, for a dark background.
fn lighter(RGBColor(r, g, b): RGBColor) -> RGBColor {
    let up = |channel: u8| channel + ((255 - channel) as f32 * 0.38) as u8;
    RGBColor(up(r), up(g), up(b))
}

/// Style sheet. Colours of charts follow the theme of the page.
fn style(profile: &Profile) -> String {
    let ground = [
        (PAPER, "var(--paper)"),
        (INK, "var(--ink)"),
        (FAINT, "var(--faint)"),
        (GREY, "var(--grey)"),
        (LIMIT, "var(--limit)"),
    ];
    let mut rules = String::from(STYLE);
    for (colour, becomes) in ground {
        let hex = hex(colour);
        rules.push_str(&format!(
            ".chart [fill=\"{hex}\"]{{fill:{becomes}}}.chart [stroke=\"{hex}\"]{{stroke:{becomes}}}\n"
        ));
    }
    let mut dark = String::new();
    for colour in COLOURS.into_iter().chain(SHADES.map(|(_, colour)| colour)).chain(CUSTOM_SHADES) {
        let (from, to) = (hex(colour), hex(lighter(colour)));
        dark.push_str(&format!(
            "DARK .chart [fill=\"{from}\"]{{fill:{to}}}DARK .chart [stroke=\"{from}\"]{{stroke:{to}}}\n"
        ));
    }
    dark.push_str(DARK);
    // By the theme of the system, or as switched on the page.
    let by_system = dark.replace("DARK", ":root:not(.light)");
    rules.push_str(&format!("@media (prefers-color-scheme:dark){{{by_system}}}\n"));
    rules.push_str(&dark.replace("DARK", ":root.dark"));
    for nth in 0..profile.measured().count() {
        rules.push_str(&format!("#curve:has(#s{nth}:not(:checked)) .series.s{nth}{{display:none}}\n"));
    }
    rules
}

const STYLE: &str = "
:root{--paper:#fcfbf7;--ink:#22262e;--faint:#e2e0d8;--grey:#70747c;--limit:#966c3c;--bound:#c85014}
*{box-sizing:border-box}
body{margin:0;background:var(--paper);color:var(--ink);font:16px/1.5 'DejaVu Sans',system-ui,sans-serif}
header{display:flex;gap:2rem;align-items:start;justify-content:space-between;padding:2rem 2.5rem 0;max-width:86rem;margin:auto}
main{max-width:86rem;margin:auto;padding:0 2.5rem 4rem}
h1{font-size:1.7rem;line-height:1.25;margin:0 0 .4rem}
h2{font-size:1.2rem;margin:2.6rem 0 .6rem;border-bottom:2px solid var(--faint);padding-bottom:.3rem}
h3{font-size:1rem;margin:1.4rem 0 .4rem}
header p{margin:0;color:var(--grey)}
button{font:inherit;color:inherit;background:none;border:1.5px solid var(--grey);border-radius:.4rem;padding:.3rem .9rem;cursor:pointer;white-space:nowrap}
.switches{display:flex;flex-wrap:wrap;gap:1rem;margin:.4rem 0}
fieldset{border:0;padding:0;margin:0;display:flex;flex-wrap:wrap;gap:.2rem 1.1rem;align-items:center}
legend{float:left;color:var(--grey);padding:0;margin-right:.8rem}
label{cursor:pointer}
.key{display:inline-block;width:.8em;height:.8em;border-radius:.15em}
.chart svg{display:block;width:100%;height:auto;font-family:'DejaVu Sans',sans-serif}
.chart svg *{pointer-events:none}
.chart svg .hit{fill:transparent;cursor:help;pointer-events:auto}
.hit:focus,.hit:hover{outline:none;stroke:var(--ink);stroke-width:2}
:focus-visible{outline:2px solid var(--limit);outline-offset:2px}
.linear{display:none}
#curve:has(#linear:checked) .linear{display:block}
#curve:has(#linear:checked) .log{display:none}
.wide{overflow-x:auto}
table{border-collapse:collapse;font-variant-numeric:tabular-nums;font-size:.9rem}
th,td{text-align:right;padding:.22rem .8rem;border-bottom:1px solid var(--faint);white-space:nowrap}
th:first-child{text-align:left;font-weight:normal}
thead th{color:var(--grey);font-weight:normal}
.bound{color:var(--bound);font-weight:bold}
li{margin:.2rem 0}
pre{overflow-x:auto;background:var(--faint);padding:1rem;border-radius:.4rem;font-size:.85rem}
#tip{position:fixed;white-space:pre;pointer-events:none;background:var(--ink);color:var(--paper);padding:.5rem .8rem;border-radius:.4rem;font-size:.85rem;line-height:1.4;z-index:9}
@media print{.switches,button{display:none}}
";

const DARK: &str = "DARK{--paper:#15181d;--ink:#eceae2;--faint:#2c313a;--grey:#a0a6ae;--limit:#d6b46e;--bound:#ec844c;color-scheme:dark}\n";

const SCRIPT: &str = "
'use strict';
const tip = document.getElementById('tip');
const show = (hit, x, y) => {
  tip.textContent = hit.dataset.tooltip;
  tip.hidden = false;
  const box = tip.getBoundingClientRect();
  tip.style.left = Math.max(4, Math.min(x + 16, innerWidth - box.width - 4)) + 'px';
  tip.style.top = Math.max(4, y - box.height - 12 < 4 ? y + 18 : y - box.height - 12) + 'px';
};
const middle = hit => { const box = hit.getBoundingClientRect(); return [box.x + box.width / 2, box.y + box.height / 2]; };
for (const hit of document.querySelectorAll('.hit')) {
  hit.querySelector('title')?.remove();
  hit.addEventListener('pointermove', event => show(hit, event.clientX, event.clientY));
  hit.addEventListener('pointerleave', () => { tip.hidden = true; });
  hit.addEventListener('focus', () => show(hit, ...middle(hit)));
  hit.addEventListener('blur', () => { tip.hidden = true; });
}
addEventListener('keydown', event => {
  if (event.key === 'Escape') tip.hidden = true;
  const hit = document.activeElement;
  const step = { ArrowRight: 1, ArrowLeft: -1 }[event.key];
  if (!step || !hit.classList.contains('hit')) return;
  const line = [...hit.parentNode.querySelectorAll('.hit')];
  line[line.indexOf(hit) + step]?.focus();
  event.preventDefault();
});
const turn = document.getElementById('turn');
turn.hidden = false;
turn.addEventListener('click', () => {
  const root = document.documentElement.classList;
  const dark = root.contains('dark') || (!root.contains('light') && matchMedia('(prefers-color-scheme: dark)').matches);
  root.toggle('dark', !dark);
  root.toggle('light', dark);
});
";
