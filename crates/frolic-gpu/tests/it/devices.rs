//! Devices and sets as a program uses them: how they are opened, what is refused, what is counted and when it is read back.

use crate::common::{gpu, plain_device};
use frolic_core::{
    Assets, BodyRow, CollectorSpec, Counter, EmitterSpec, EventSpec, Meter, Moment, ParticleSpec, ShapeSpec,
    TrailSpec, WorldSpec,
};
use frolic_gpu::{
    DeviceCounters, DevicePopulation, DevicePopulationError, Gpu, GpuError, GpuParticles, GpuSet, GpuSpec,
    Recorder, wgpu,
};
use proptest::prelude::*;

fn stream(count: u32, rate: f32) -> ParticleSpec {
    ParticleSpec::new(count).life(0.5, 1.5).emitter(EmitterSpec::rate(rate).speed(1.0, 2.0))
}

/// Bounds of a binding are kept; without timing there is none.
#[test]
fn devices_open_as_asked() {
    assert_eq!(GpuSpec::default(), GpuSpec::default().binding(128 << 20).timed(true));
    assert_eq!(GpuSpec::default().binding(1).binding, 64 << 10);
    assert_eq!(GpuSpec::default().binding(u64::MAX).binding, 2 << 30);
    let plain = Gpu::open(GpuSpec::default().timed(false).binding(1 << 20)).unwrap();
    assert!(!plain.is_timed() && plain.binding() == 1 << 20 && !plain.name().is_empty());
    plain.check().unwrap();
    plain.wait().unwrap();
    let (a, b) = (Gpu::shared().unwrap(), Gpu::shared().unwrap());
    assert!(a.device() == b.device(), "one device for all");
}

/// A program's own device is taken as it is, and refused by the name of what it lacks.
#[test]
fn devices_of_programs_are_taken_or_refused() {
    let (device, queue) = plain_device();
    let taken = Gpu::from_parts(&device, &queue, GpuSpec::default()).unwrap();
    assert!(taken.device() == &device && !taken.is_timed());
    let instance = wgpu::Instance::new(wgpu::InstanceDescriptor::new_without_display_handle());
    let adapter = pollster::block_on(instance.request_adapter(&Default::default())).unwrap();
    let small = wgpu::Limits { max_storage_buffers_per_shader_stage: 4, ..wgpu::Limits::default() };
    let descriptor = wgpu::DeviceDescriptor { required_limits: small, ..Default::default() };
    let (device, queue) = pollster::block_on(adapter.request_device(&descriptor)).unwrap();
    let problem = Gpu::from_parts(&device, &queue, GpuSpec::default()).unwrap_err();
    assert!(matches!(problem, GpuError::Unfit { .. }));
    let told = problem.to_string();
    assert!(
        told.contains("max_storage_buffers_per_shader_stage is 4, and 8 are needed; draw on the CPU"),
        "{told}"
    );
    // A population on it fails the same way, before it has any buffer.
    assert!(Gpu::from_parts(&device, &queue, GpuSpec::default().timed(false)).is_err());
}

/// What was destroyed says so at the next check, with what to do.
#[test]
fn a_destroyed_device_is_told() {
    let gpu = Gpu::open(GpuSpec::default()).unwrap();
    let mut there = GpuParticles::new(&gpu, &stream(100, 50.0), 1).unwrap();
    gpu.device().destroy();
    let mut recorder = Recorder::new(&gpu);
    let world = WorldSpec::default().build().unwrap();
    let stepped = there.step(&mut recorder, &world, 0.1, 1);
    let waited = there.wait(&mut recorder, &mut Meter::new());
    let problem = stepped.err().or(waited.err()).unwrap();
    assert!(problem.to_string().starts_with("the graphics device "), "{problem}");
}

/// Counters of commands go to the meter once.
#[test]
fn counters_are_reported_once() {
    let mut counters = DeviceCounters {
        uploaded: 1,
        uploaded_elements: 2,
        downloaded: 3,
        draws: 4,
        dispatches: 5,
        passes: 6,
        pipelines: 7,
        binds: 8,
        submits: 9,
    };
    let mut meter = Meter::new();
    meter.begin_frame();
    counters.report(&mut meter);
    counters.report(&mut meter);
    let frame = meter.end_frame();
    let told = [
        Counter::UploadedBytes,
        Counter::UploadedElementBytes,
        Counter::DownloadedBytes,
        Counter::DeviceDraws,
        Counter::Dispatches,
        Counter::Passes,
        Counter::PipelineChanges,
        Counter::BindChanges,
        Counter::Submits,
    ];
    assert_eq!(told.map(|counter| frame.count(counter)), [1, 2, 3, 4, 5, 6, 7, 8, 9]);
    assert_eq!(counters, DeviceCounters::default());
}

/// A set holds what was added, by name and number; a name that is taken, or an event of a population that is not there, is refused by name.
#[test]
fn sets_know_their_members() {
    let gpu = gpu();
    let (mut set, assets) = (GpuSet::new(&gpu), Assets::default());
    assert_eq!(set.add("smoke", &stream(64, 20.0), 1, &assets).unwrap(), 0);
    assert_eq!(set.add("fire", &stream(128, 30.0), 2, &assets).unwrap(), 1);
    let told = set.add("smoke", &stream(9, 1.0), 3, &assets).unwrap_err().to_string();
    assert!(told.contains("'smoke' is used twice") && told.contains("another name"), "{told}");
    set.link().unwrap();
    assert_eq!(set.members().len(), 2);
    assert_eq!(set.get("fire").unwrap().spec().count, 128);
    assert!(set.get("ash").is_none());
    assert_eq!(set.bytes(), set.members().iter().map(GpuParticles::bytes).sum::<u64>());
    assert!(set.read(&mut Recorder::new(&gpu), 7).unwrap().is_empty());
    let lost = stream(64, 20.0).event(EventSpec::start(Moment::Death, "nobody", 1.0));
    set.add("lost", &lost, 4, &assets).unwrap();
    let told = set.link().unwrap_err();
    assert!(matches!(told, DevicePopulationError::Spec(_)) && told.to_string().contains("nobody"), "{told}");
    // Keys of populations are its own: no other one answers to them.
    let key = |nth: usize| set.members()[nth].populations().next().unwrap().key;
    assert!(set.members()[0].elements(key(0)).is_some() && set.members()[1].elements(key(0)).is_none());
    assert_ne!(key(0), key(1));
}

/// Totals of a readback never fall, lag by a frame or two, and reach the truth when waited for; the meter gets each birth once.
#[test]
fn readbacks_lag_and_lose_nothing() {
    let gpu = gpu();
    let mut there = GpuParticles::new(&gpu, &stream(4_000, 1_500.0), 1).unwrap();
    let (mut recorder, mut meter) = (Recorder::new(&gpu), Meter::new());
    let world = WorldSpec::default().build().unwrap();
    let (mut emitted, mut before) = (0, 0);
    for nth in 1..=40u64 {
        meter.begin_frame();
        there.read_back(&mut recorder, &mut meter);
        there.step(&mut recorder, &world, 1.0 / 60.0, 1).unwrap();
        there.record(&mut recorder);
        recorder.submit();
        there.request_readback();
        emitted += meter.end_frame().count(Counter::Emitted);
        let statistics = there.statistics();
        assert!(statistics.steps <= nth && statistics.steps >= before, "{} after {nth}", statistics.steps);
        before = statistics.steps;
        assert_eq!((there.steps_taken(), statistics.emitted), (nth, emitted));
    }
    meter.begin_frame();
    let known = there.wait(&mut recorder, &mut meter).unwrap();
    emitted += meter.end_frame().count(Counter::Emitted);
    assert_eq!((known.steps, known.emitted), (40, emitted));
    assert_eq!(known.alive, known.emitted - known.retired);
    assert!((there.time() - 40.0 / 60.0).abs() < 1e-5);
    // 1500 a second for two thirds of one.
    assert!(emitted.abs_diff(1_000) <= 2, "{emitted}");
}

/// Each catch is counted once, however often the counts are read.
#[test]
fn catches_are_taken_once() {
    let gpu = gpu();
    let spec = ParticleSpec::new(600).life(9.0, 9.0).motion(0.0, 1.0).emitter(
        EmitterSpec::burst(600, 0.0)
            .shape(ShapeSpec::Box { size: [2.0, 0.1, 0.1] })
            .position([0.0, 2.0, 0.0])
            .speed(0.0, 0.0),
    );
    let world = WorldSpec::default()
        .collector(CollectorSpec::new([-0.5, 1.0, 0.0], 0.45))
        .collector(CollectorSpec::new([0.5, 1.0, 0.0], 0.45))
        .build()
        .unwrap();
    let mut set = GpuSet::new(&gpu);
    set.add("drops", &spec, 1, &Assets::default()).unwrap();
    set.link().unwrap();
    let (mut recorder, mut meter, mut caught) = (Recorder::new(&gpu), Meter::new(), [0u64; 2]);
    for _ in 0..3 {
        set.step(&mut recorder, &world, 1.0 / 60.0, 25).unwrap();
        set.wait(&mut recorder, &mut meter).unwrap();
        set.take_caught(&mut caught);
        set.take_caught(&mut caught);
    }
    let statistics = set.members()[0].statistics();
    assert_eq!(caught[..], statistics.caught[..2]);
    assert_eq!(caught[0] + caught[1], statistics.picked);
    assert!(caught.iter().all(|count| *count > 150), "{caught:?}");
    assert_eq!(set.readback_age(), 0);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(12))]

    /// Steps are steps, however they are handed over: in one go, one by one, or in submissions of any size.
    #[test]
    fn steps_may_be_divided_at_will(cuts in prop::collection::vec(1u32..40, 1..6), seed in any::<u32>()) {
        let gpu = gpu();
        let world = WorldSpec::default().wind([2.0, 0.0, 1.0]).gusts(1.0, 1.5).build().unwrap();
        let spec = stream(700, 400.0);
        let steps = cuts.iter().sum();
        let run = |goes: &[u32], submits: bool| -> Vec<BodyRow> {
            let mut there = GpuParticles::new(&gpu, &spec, seed).unwrap();
            let mut recorder = Recorder::new(&gpu);
            for go in goes {
                there.step(&mut recorder, &world, 1.0 / 60.0, *go).unwrap();
                if submits {
                    recorder.submit();
                }
            }
            let mut rows = there.read(&mut recorder).unwrap();
            rows.sort_by_key(|row| row.id);
            rows
        };
        let whole = run(&[steps], false);
        prop_assert!(!whole.is_empty());
        prop_assert_eq!(&run(&cuts, true), &whole);
        prop_assert_eq!(&run(&cuts, false), &whole);
    }
}

/// Thrown elements are where school physics puts them: on the device too, whatever the number of steps.
#[test]
fn throws_are_exact_on_the_device() {
    let gpu = gpu();
    for (drag, wind, rate) in [(0.0f64, 0.0f64, 30u32), (0.0, 0.0, 120), (0.8, 3.0, 60), (2.5, -4.0, 60)] {
        let spec = ParticleSpec::new(64).life(1e3, 1e3).motion(drag as f32, 1.0).emitter(
            EmitterSpec::burst(64, 0.0).position([0.0, 50.0, 0.0]).cone([0.0, 1.0, 0.0], 0.0).speed(6.0, 6.0),
        );
        let world = WorldSpec::default().wind([wind as f32, 0.0, 0.0]).build().unwrap();
        let mut there = GpuParticles::new(&gpu, &spec, 1).unwrap();
        let mut recorder = Recorder::new(&gpu);
        there.step(&mut recorder, &world, 1.0 / rate as f32, rate * 2).unwrap();
        let rows = there.read(&mut recorder).unwrap();
        assert_eq!(rows.len(), 64);
        // They are born within the first step, all at its start.
        let way = |v0: f64, air: f64, pull: f64, t: f64| {
            if drag == 0.0 {
                return v0 * t + pull * t * t / 2.0;
            }
            let limit = air + pull / drag;
            limit * t + (v0 - limit) * (1.0 - (-drag * t).exp()) / drag
        };
        for row in &rows {
            let t = f64::from(row.age);
            let (x, y) = (way(0.0, wind, 0.0, t), 50.0 + way(6.0, 0.0, -9.81, t));
            assert!((f64::from(row.px) - x).abs() < 4e-3, "{} for {x} after {t} s", row.px);
            assert!((f64::from(row.py) - y).abs() < 6e-3, "{} for {y} after {t} s", row.py);
        }
    }
}

/// Populations of one device do not touch each other: two that take turns are what each is alone.
#[test]
fn populations_share_a_device_and_nothing_else() {
    let gpu = gpu();
    let world = WorldSpec::default().wind([1.0, 0.0, 0.0]).gusts(1.0, 2.0).build().unwrap();
    let specs = [stream(500, 300.0), stream(900, 800.0).motion(1.5, -0.2)];
    let sorted = |there: &mut GpuParticles, recorder: &mut Recorder| {
        let mut rows = there.read(recorder).unwrap();
        rows.sort_by_key(|row| row.id);
        rows
    };
    let alone: Vec<Vec<BodyRow>> = specs
        .iter()
        .map(|spec| {
            let mut there = GpuParticles::new(&gpu, spec, 5).unwrap();
            let mut recorder = Recorder::new(&gpu);
            there.step(&mut recorder, &world, 1.0 / 60.0, 50).unwrap();
            sorted(&mut there, &mut recorder)
        })
        .collect();
    let mut both = specs.each_ref().map(|spec| GpuParticles::new(&gpu, spec, 5).unwrap());
    let mut recorder = Recorder::new(&gpu);
    for _ in 0..10 {
        for there in &mut both {
            there.step(&mut recorder, &world, 1.0 / 60.0, 5).unwrap();
        }
        recorder.submit();
    }
    for (there, alone) in both.iter_mut().zip(&alone) {
        assert!(alone.len() > 100);
        assert_eq!(&sorted(there, &mut recorder), alone);
    }
}

/// The reported memory is what is held: it grows with the count and with trails, and shards hold no more than a binding.
#[test]
fn memory_of_populations_is_told() {
    let gpu = Gpu::open(GpuSpec::default().binding(64 << 10)).unwrap();
    let bytes = |spec: &ParticleSpec| GpuParticles::new(&gpu, spec, 1).unwrap().bytes();
    let (few, many) = (bytes(&stream(1_000, 10.0)), bytes(&stream(20_000, 10.0)));
    // Two copies of ten words each.
    assert!(many > few && many >= 20_000 * 80, "{few} and {many}");
    let mut trailing = stream(400, 10.0);
    let plain = bytes(&trailing);
    trailing.trail = Some(TrailSpec::new(8, 0.05));
    assert!(bytes(&trailing) >= plain + 400 * 8 * 12);
    let large = GpuParticles::new(&gpu, &stream(20_000, 10.0), 1).unwrap();
    let most: Vec<u32> = large.populations().map(|population| population.most).collect();
    assert!(most.len() > 3 && most.iter().all(|most| u64::from(*most) * 16 <= 64 << 10), "{most:?}");
    assert_eq!(most.iter().sum::<u32>(), 20_000);
    assert!(large.trails().is_none() && GpuParticles::new(&gpu, &trailing, 1).unwrap().trails().is_some());
    assert_eq!(large.instances(0.0).count(), most.len());
}

/// What the device cannot do is refused by key before it holds anything, and the population of the same spec on the processor is untouched.
#[test]
fn specs_are_checked_before_the_device_is_asked() {
    let gpu = gpu();
    for (spec, key) in [
        (stream(100, -1.0), "emitter.0.rate"),
        (stream(100, 10.0).life(-1.0, 2.0), "life"),
        (stream(100, 10.0).size(0.1, f32::NAN), "size"),
        (stream(100, 10.0).motion(f32::INFINITY, 0.0), "motion.drag"),
    ] {
        let problem = GpuParticles::new(&gpu, &spec, 1).unwrap_err();
        assert!(problem.to_string().contains(key), "{problem}");
        assert!(matches!(problem, DevicePopulationError::Spec(_)));
    }
    gpu.check().unwrap();
}
