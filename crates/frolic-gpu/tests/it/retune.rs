//! Running populations on a device take other specs, as those on the CPU do.

use crate::common::gpu;
use crate::common::stepped::agree;
use frolic_core::{
    Assets, BodyRow, Change, CurlSpec, EmitterSpec, EventSpec, FieldKind, FieldSpec, Meter, Moment,
    ParticleSpec, Particles, TrailSpec, WorldSpec,
};
use frolic_gpu::{GpuParticles, GpuSet, Recorder};

fn spec(rate: f32, drag: f32, drift: f32) -> ParticleSpec {
    let curl = CurlSpec::default().drift(drift);
    ParticleSpec::new(900)
        .life(1.0, 3.0)
        .motion(drag, 0.3)
        .emitter(EmitterSpec::rate(rate).cone([0.0, 1.0, 0.0], 30.0).speed(1.0, 4.0))
        .emitter(EmitterSpec::rate(31.5).speed(0.5, 0.5))
        .field(FieldSpec::new(FieldKind::Curl(curl)))
}

#[test]
fn a_running_population_takes_changes_as_on_the_cpu() {
    let (gpu, assets) = (gpu(), Assets::default());
    let mut recorder = Recorder::new(&gpu);
    let before = spec(120.0, 0.4, 0.5);
    let mut here = Particles::new(&before, 7).unwrap();
    let mut there = GpuParticles::new(&gpu, &before, 7).unwrap();
    let mut world = WorldSpec::default().wind([2.0, 0.0, 0.0]).gusts(1.0, 2.0).build().unwrap();
    let (dt, mut meter) = (1.0 / 60.0, Meter::new());
    // Another rate, drag and drift, an emitter less, another life; and another wind in between.
    let mut fewer = spec(300.0, 2.0, 1.5).life(0.3, 0.9);
    fewer.emitter.truncate(1);
    for (nth, changed) in [spec(60.0, 2.0, 0.5), spec(300.0, 2.0, 1.5), fewer].iter().enumerate() {
        here.step(&world, dt, 40, &mut meter);
        there.step(&mut recorder, &world, dt, 40).unwrap();
        let time = here.time();
        assert_eq!(here.retune(changed).unwrap(), Change::Live);
        assert_eq!(there.retune(changed, &assets).unwrap(), Change::Live);
        assert_eq!(there.retune(changed, &assets).unwrap(), Change::Unchanged);
        assert_eq!(there.spec(), changed);
        world.retune(&WorldSpec::default().wind([nth as f32, 0.0, 3.0]).gusts(1.0, 2.0), time).unwrap();
    }
    here.step(&world, dt, 40, &mut meter);
    there.step(&mut recorder, &world, dt, 40).unwrap();
    let mut rows = there.read(&mut recorder).unwrap();
    let mut own: Vec<BodyRow> = (0..here.len()).filter_map(|nth| here.columns().row(nth)).collect();
    rows.sort_by_key(|row| row.id);
    own.sort_by_key(|row| row.id);
    assert!(own.len() > 150, "{}", own.len());
    agree(&[own, rows], 4e-3);
}

#[test]
fn what_is_fixed_on_a_device_is_refused() {
    let (gpu, assets) = (gpu(), Assets::default());
    let before = spec(60.0, 0.4, 0.5);
    let mut set = GpuSet::new(&gpu);
    set.add("dust", &before, 7, &assets).unwrap();
    set.add("more", &before, 8, &assets).unwrap();
    let changed = |change: fn(&mut ParticleSpec)| {
        let mut spec = before.clone();
        change(&mut spec);
        spec
    };
    for spec in [
        changed(|spec| spec.count = 901),
        changed(|spec| spec.trail = Some(TrailSpec::new(4, 0.1))),
        changed(|spec| spec.event.push(EventSpec::note(Moment::Death))),
        changed(|spec| spec.emitter.extend(vec![EmitterSpec::rate(1.0); 40])),
        changed(|spec| spec.emitter[0].aim.even = true),
    ] {
        let other = self::spec(9.0, 0.1, 0.5);
        assert!(!set.members()[0].can_retune(&spec));
        let error = set.retune(&[("more", &other), ("dust", &spec)], &assets).unwrap_err().to_string();
        assert!(error.contains("build a new population"), "{error}");
        // All or nothing.
        assert!(set.members().iter().all(|member| *member.spec() == before));
    }
    let error = set.retune(&[("dusk", &before)], &assets).unwrap_err().to_string();
    assert!(error.contains("write one of: dust, more"), "{error}");
    let wrong = changed(|spec| spec.motion.drag = -1.0);
    assert!(set.retune(&[("dust", &wrong)], &assets).is_err());
    assert_eq!(set.retune(&[("dust", &before)], &assets).unwrap(), [Change::Unchanged]);
}
