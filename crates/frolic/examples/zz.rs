use frolic::core::{Flock, FlockSpec, RuleSpec, Space};
use frolic::prelude::*;
fn main() {
    let count: usize = std::env::args().nth(1).map_or(100_000, |w| w.parse().unwrap());
    let side = (count as f32 * 4.18879 / 30.0).cbrt();
    let size = [side; 3];
    let mut spec = FlockSpec::default();
    spec.start = ShapeSpec::Box { size };
    spec.separation = RuleSpec::new(0.5, 1e-3);
    spec.alignment = RuleSpec::new(1.0, 1e-3);
    spec.cohesion = RuleSpec::new(1.0, 1e-3);
    spec.within = Some(Space::Box { position: [0.0; 3], size });
    spec.avoid = 0.0;
    let mut flock = Flock::new(&spec, count as u32, Span::from(0.1), 1).unwrap();
    let world = WorldSpec::default().build().unwrap();
    let mut meter = Meter::new();
    let mut best = [f64::INFINITY; 4];
    Threads::new(1).run(|| {
        for _ in 0..40 {
            meter.begin_frame();
            flock.step(&world, &[], 1.0 / 60.0, &mut meter).unwrap();
            let frame = meter.end_frame();
            let of = [frame.total(), frame.stage(Stage::Neighbours), frame.stage(Stage::Steer), frame.stage(Stage::Integrate)];
            for (b, t) in best.iter_mut().zip(of) { *b = b.min(t.as_secs_f64() * 1e9 / count as f64); }
            if flock.gauges().order > 2.0 { println!("{:?}", frame.count(Counter::PairsTested)); }
        }
    });
    meter.begin_frame();
    flock.step(&world, &[], 1.0 / 60.0, &mut meter).unwrap();
    let frame = meter.end_frame();
    println!("ns/el: all {:.0} neighbours {:.0} steer {:.0} integrate {:.0}; tested {:.0} near {:.1}", best[0], best[1], best[2], best[3], frame.count(Counter::PairsTested) as f64 / count as f64, frame.count(Counter::PairsNear) as f64 / count as f64);
}
