//! A whole draw of 400 000 tapered ribbons of three segments, about 2x24 pixels each, with depth and four samples a pixel, at 1280x800,
//! against the plain scalar form.
//!
//! `cargo bench -p frolic --bench ribbons [-- COUNT]`

mod support;

use frolic::draw::RibbonSpec;
use frolic::prelude::*;
use support::drawing::{column, compare_drawing, far_view, print_machine};
use support::{at_least, at_most};

fn main() {
    let count = std::env::args().skip(1).find_map(|word| word.parse().ok()).unwrap_or(400_000);
    print_machine();
    let view = far_view();
    let of = |which: u32, from: f32, to: f32| column(count, which, from, to);
    // A meadow seen level: roots all over the picture, tips up to 28 pixels above them, bent aside.
    let (x, y, z) = (of(0, -6.4, 6.4), of(1, -4.1, 3.9), of(2, -2.0, 2.0));
    let (tip_x, tip_y) = (of(3, -0.10, 0.10), of(4, 0.20, 0.28));
    let middle_x: Vec<f32> = tip_x.iter().map(|lean| lean * 0.3).collect();
    let middle_y: Vec<f32> = tip_y.iter().map(|rise| rise * 0.55).collect();
    let level = vec![0.0; count as usize];
    let half_width = vec![0.01; count as usize];
    let instances = Instances::at([&x, &y, &z])
        .and_then(|instances| instances.sized(&half_width))
        .and_then(|instances| instances.curved([&middle_x, &middle_y, &level], [&tip_x, &tip_y, &level]))
        .unwrap();
    let look =
        LookSpec::solid(Shape::Ribbon(RibbonSpec::new(24.0, 0.0, 3)), "#6c8a3a").unwrap().build().unwrap();
    let medians = compare_drawing(
        "ribbons of three segments, 2x24 pixels, solid",
        &instances,
        &look,
        &view,
        |list, linear| linear.draw(list, &view),
    );
    at_least("times less CPU time than the plain form", medians[2].cpu / medians[0].cpu, 4.0);
    at_most("CPU time, ms", medians[0].cpu * 1e3, 80.0);
}
