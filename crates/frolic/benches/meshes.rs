//! A whole draw of small solid meshes at 1280x800 against the plain scalar form: 100 000 boxes of twelve triangles, about 6 pixels large.
//!
//! `cargo bench -p frolic --bench meshes [-- COUNT]`

mod support;

use frolic::prelude::*;
use support::at_least;
use support::drawing::{column, compare_drawing, far_view, print_machine};

fn main() {
    let count = std::env::args().skip(1).find_map(|word| word.parse().ok()).unwrap_or(100_000);
    print_machine();
    let view = far_view();
    let of = |which: u32, from: f32, to: f32| column(count, which, from, to);
    let (x, y, z) = (of(0, -6.4, 6.4), of(1, -4.0, 4.0), of(2, -2.0, 2.0));
    let (turn, tilt) = (of(3, 0.0, 6.3), of(4, -1.0, 1.0));
    let size = vec![0.06; count as usize];
    let instances = Instances::at([&x, &y, &z])
        .and_then(|instances| instances.sized(&size))
        .and_then(|instances| instances.turned(&turn, &tilt))
        .unwrap();
    let shape = Shape::mesh("box");
    let look = LookSpec::solid(shape, "#b08a5a").unwrap().build().unwrap();
    let medians = compare_drawing(
        "boxes of twelve triangles, 6 pixels, solid",
        &instances,
        &look,
        &view,
        |list, linear| {
            linear.draw(list, &view);
        },
    );
    at_least("times less CPU time than the plain form", medians[2].cpu / medians[0].cpu, 4.0);
}
