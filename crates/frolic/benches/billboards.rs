//! A whole draw of one million soft round billboards at 1280x800 against the plain scalar form.
//!
//! `cargo bench -p frolic --bench billboards [-- COUNT]`

mod support;

use frolic::diagnostics::reference;
use frolic::prelude::*;
use support::drawing::{compare_drawing, far_view, print_machine};
use support::{at_least, at_most};

/// Billboards of one size in pixels, spread over the picture.
fn scene(count: u32, radius: f32, blend: Blend) -> (Particles, Look) {
    let emitter =
        EmitterSpec::burst(count, 0.0).shape(ShapeSpec::Box { size: [12.8, 8.0, 4.0] }).speed(0.0, 0.0);
    let spec = ParticleSpec::new(count)
        .life(100.0, 200.0)
        .size(radius * 0.01, radius * 0.01)
        .motion(0.0, 0.0)
        .emitter(emitter);
    let mut particles = Particles::new(&spec, 3).unwrap();
    particles.step(&WorldSpec::default().build().unwrap(), 1.0 / 60.0, 1, &mut Meter::new());
    let mut look = LookSpec::default().opacity_over_age([(0.0, 0.2)]);
    look.blend = blend;
    (particles, look.build().unwrap())
}

fn main() {
    let count = std::env::args().skip(1).find_map(|word| word.parse().ok()).unwrap_or(1_000_000);
    print_machine();
    let view = far_view();
    for (radius, blend) in
        [(2.0, Blend::Alpha), (2.0, Blend::Additive), (1.0, Blend::Additive), (4.0, Blend::Additive)]
    {
        let (particles, look) = scene(count, radius, blend);
        let order = if blend == Blend::Alpha { "alpha in depth order" } else { "additive" };
        let medians = compare_drawing(
            &format!("billboards of radius {radius} pixels, {order}"),
            &Instances::of(particles.columns(), 0.0),
            &look,
            &view,
            |list, linear| linear.blend(reference::splats(list, &view)),
        );
        let ratio = medians[2].cpu / medians[0].cpu;
        if (radius, blend) == (2.0, Blend::Alpha) {
            at_least("times less CPU time than the plain form", ratio, 6.0);
            at_most("CPU time an element, ns", medians[0].cpu * 1e9 / f64::from(count), 35.0);
        } else {
            println!("  times less CPU time than the plain form: {ratio:.2}");
        }
    }
}
