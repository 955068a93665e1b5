//! Families of a program's own: what the scene does with them, and what becomes of one that is at fault.

use frolic_core::{
    BodyColumns, BodyRow, CollectorSpec, Counter, EmitterSpec, EventSpec, Integrator, Meter, Moment,
    ObstacleSpec, ParticleSpec, Span, SpecError,
};
use frolic_draw::{Instances, LookSpec};
use frolic_scene::{
    BuildContext, CheckContext, DrawContext, Drawables, Elements, FamilySpec, PopulationSpec, Scene,
    SceneError, SceneSpec, StepContext, write_places,
};
use proptest::prelude::*;

/// What goes wrong, if anything.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Fault {
    None,
    PanicsInStep,
    PanicsInDraw,
    Refuses,
    GrowsPastItsBound,
    ColumnsDiffer,
}

/// Stones that fall: side by side, 1 m apart, at a height.
#[derive(Debug, Clone)]
struct ReliefPart {
    key: &'static str,
    height: f32,
    fault: Fault,
}

const STONES: ReliefPart = ReliefPart { key: "stones", height: 10.0, fault: Fault::None };

impl FamilySpec for ReliefPart {
    fn key(&self) -> &'static str {
        self.key
    }

    fn reads(&self) -> &'static [&'static str] {
        &["life", "motion", "event"]
    }

    fn check(&self, _population: &PopulationSpec, _context: &CheckContext<'_>) -> Result<(), SpecError> {
        if self.height.is_finite() {
            return Ok(());
        }
        Err(SpecError::new("stones.height", "is no height", "write metres"))
    }

    fn warm_up_seconds(&self, _population: &PopulationSpec) -> f32 {
        0.5
    }

    fn build(&self, context: &mut BuildContext<'_>) -> Result<Box<dyn Elements>, SpecError> {
        let mut bodies = BodyColumns::default();
        for id in 0..context.count {
            let (life, size) = (context.population.life.max, context.size.max);
            bodies.push(&BodyRow {
                px: id as f32,
                py: self.height,
                life,
                size,
                id,
                key: id,
                ..BodyRow::default()
            });
        }
        let population = context.population;
        let integrator = Integrator::new(&population.motion)?.with_events(&population.event)?;
        Ok(Box::new(Stones { bodies, integrator, fault: self.fault, turns: 0 }))
    }
}

#[derive(Debug)]
struct Stones {
    bodies: BodyColumns,
    integrator: Integrator,
    fault: Fault,
    turns: u32,
}

impl Elements for Stones {
    fn len(&self, _context: DrawContext<'_>) -> usize {
        self.bodies.len()
    }

    fn bytes(&self, _context: DrawContext<'_>) -> u64 {
        (self.bodies.len() * BodyColumns::BYTES_PER_ELEMENT) as u64
    }

    fn step(&mut self, context: &mut StepContext<'_>) -> Result<(), SpecError> {
        for _ in 0..context.steps {
            let bodies = self.bodies.bodies();
            let dead = self.integrator.step(bodies, context.world, context.dt, context.meter)?.to_vec();
            self.bodies.remove_sorted(&dead);
            context.start(self.integrator.happened());
            context.add_caught(self.integrator.caught());
            self.turns += 1;
            match self.fault {
                Fault::PanicsInStep if self.turns == 5 => panic!("the stones are loose"),
                Fault::Refuses if self.turns == 5 => {
                    return Err(SpecError::new("stones", "are loose", "tie them"));
                }
                Fault::GrowsPastItsBound if self.turns == 5 => {
                    self.bodies.push(&BodyRow { life: 9.0, ..BodyRow::default() });
                }
                _ => {}
            }
        }
        context.meter.add(Counter::Alive, self.bodies.len() as u64);
        Ok(())
    }

    fn instances<'a>(&'a self, context: DrawContext<'a>) -> Result<Drawables<'a>, SpecError> {
        let instances = Instances::of(&self.bodies, context.lag);
        match self.fault {
            Fault::ColumnsDiffer => instances.tinted(&self.bodies.size()[1..]).map(Drawables::one),
            Fault::PanicsInDraw => panic!("no paint"),
            _ => Ok(Drawables::one(instances)),
        }
    }
}

fn stones(spec: ReliefPart, count: u32) -> PopulationSpec {
    let look = LookSpec::glowing(1.0, [(0.0, "#ffffff")]).unwrap();
    let mut population = PopulationSpec::of("stones", spec, count, Span::from(0.2), look);
    population.life = Span::from(100.0);
    population
}

fn sparks() -> (ParticleSpec, LookSpec) {
    (ParticleSpec::new(5_000).life(50.0, 50.0), LookSpec::default())
}

/// Stones and a fountain of sparks beside them.
fn scene(stones: PopulationSpec) -> SceneSpec {
    let (sparks, look) = sparks();
    let mut spec = SceneSpec::new("stones").with_population(stones).with(
        "sparks",
        sparks.emitter(EmitterSpec::rate(60.0)),
        look,
    );
    spec.draw.size = "96x60".parse().unwrap();
    (spec.camera.position, spec.camera.target) = ([5.0, 5.0, 18.0], [5.0, 4.0, 0.0]);
    spec
}

fn run(spec: &SceneSpec, seconds: f64) -> (Scene, Meter) {
    let (mut scene, mut meter) = (Scene::new(spec).unwrap(), Meter::new());
    meter.begin_frame();
    scene.run_to(seconds, &mut meter);
    (scene, meter)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(12))]

    /// Stepped in the scene's world, exactly; drawn, exported, counted.
    #[test]
    fn one_is_stepped_drawn_and_exported(count in 1u32..40, height in 1f32..10.0, steps in 1u32..50) {
        let (mut scene, mut meter) = run(&scene(stones(ReliefPart { height, ..STONES }, count)), f64::from(steps) / 60.0);
        let t = steps as f32 / 60.0;
        let (exported, mesh) = scene.snapshot("stones").unwrap();
        let places = &exported.elements;
        prop_assert_eq!(places.len(), count as usize);
        for nth in 0..places.len() {
            let row = places.row(nth).unwrap();
            prop_assert!((row.py - (height - 0.5 * 9.81 * t * t)).abs() < 1e-3, "{} after {t} s", row.py);
            prop_assert_eq!((row.px, row.size, row.id), (nth as f32, 0.2, nth as u32));
        }
        prop_assert_eq!(scene.bytes("stones"), Some(u64::from(count) * BodyColumns::BYTES_PER_ELEMENT as u64));
        let before = scene.draw(&mut meter).unwrap().pixels().to_vec();
        let frame = meter.end_frame();
        prop_assert_eq!(frame.count(Counter::Instances), scene.alive() as u64);
        let folder = tempfile::tempdir().unwrap();
        write_places(folder.path().join("stones.csv"), &exported, &mesh).unwrap();
        let text = std::fs::read_to_string(folder.path().join("stones.csv")).unwrap();
        prop_assert_eq!(text.lines().count(), count as usize + 1);
        // What is drawn are the stones: without them the picture is another.
        let (mut empty, mut meter) = run(&self::scene(stones(STONES, 0)), f64::from(steps) / 60.0);
        prop_assert!(before != empty.draw(&mut meter).unwrap().pixels());
    }

    /// Floors hold them, collectors pick them up, and their events start particles: as many as happened.
    #[test]
    fn forces_on_particles_act_on_a_custom_family(count in 1u32..30, children in 1u32..20) {
        let mut population = stones(STONES, count);
        population.event.push(EventSpec::start(Moment::Death, "embers", children as f32));
        population.event.push(EventSpec::start(Moment::Caught, "embers", 1.0));
        population.life = Span::from(1.0);
        let (embers, look) = sparks();
        let mut spec = scene(population).with("embers", embers, look);
        // Every fifth is caught at once; the others lie on the floor until they die.
        for nth in (0..count).step_by(5) {
            spec.world = spec.world.collector(CollectorSpec::new([nth as f32, 8.0, 0.0], 0.3));
        }
        spec.world = spec.world.obstacle(ObstacleSpec::plane([0.0, 7.0, 0.0], [0.0, 1.0, 0.0]).bounce(0.0, 0.5));
        let (scene, mut meter) = run(&spec, 0.9);
        let caught = u64::from(count.div_ceil(5));
        prop_assert_eq!(scene.caught().iter().sum::<u64>(), caught);
        prop_assert_eq!(scene.particles("embers").unwrap().len() as u64, caught);
        let mut scene = scene;
        if let Some((places, _)) = scene.snapshot("stones") {
            let places = places.elements;
            prop_assert!((0..places.len()).all(|nth| places.row(nth).unwrap().py >= 7.0 - 1e-3));
        }
        scene.run_to(1.2, &mut meter);
        let died = u64::from(count) - caught;
        let embers = scene.particles("embers").unwrap();
        // What a catch started was caught itself.
        prop_assert_eq!(embers.len() as u64, died * u64::from(children));
        prop_assert_eq!(scene.caught().iter().sum::<u64>(), 2 * caught);
        // Heirs of the place where a stone lay.
        prop_assert!(embers.columns().py().iter().all(|y| (6.5..9.0).contains(y)));
    }
}

/// A family that is at fault ends, says so once, and leaves the rest of the scene as it is.
#[test]
fn one_faulty_population_ends_alone() {
    let (sound, _) = run(&scene(stones(STONES, 7)), 0.5);
    let sound = sound.particles("sparks").unwrap().columns().clone();
    for (fault, said) in [
        (Fault::PanicsInStep, "its code panicked: the stones are loose"),
        (Fault::PanicsInDraw, "its code panicked: no paint"),
        (Fault::Refuses, "stones: are loose; tie them"),
        (Fault::GrowsPastItsBound, "count: it has 8 elements; keep to 7 elements, its count"),
        (Fault::ColumnsDiffer, "tint: a column of 6 for 7 elements; give columns of one length"),
    ] {
        let (mut scene, mut meter) = run(&scene(stones(ReliefPart { fault, ..STONES }, 7)), 0.5);
        let error = scene.draw(&mut meter).unwrap_err();
        assert!(matches!(&error, SceneError::Population { population, .. } if population == "stones"));
        let text = error.to_string();
        assert!(
            text.starts_with("population 'stones' has ended: ") && text.ends_with(said),
            "{fault:?}: {text}"
        );
        // Once, and no more.
        assert!(scene.draw(&mut meter).is_ok(), "{fault:?}");
        assert_eq!(scene.alive(), scene.particles("sparks").unwrap().len(), "{fault:?}");
        assert_eq!(scene.particles("sparks").unwrap().columns(), &sound, "{fault:?}");
        scene.run_to(0.7, &mut meter);
        assert!(scene.draw(&mut meter).is_ok());
    }
}

/// What cannot be is refused when the scene is built, with the key.
#[test]
fn impossible_values_are_refused() {
    let refused = |population: PopulationSpec| Scene::new(&scene(population)).unwrap_err().to_string();
    let shipped = refused(stones(ReliefPart { key: "blades", ..STONES }, 3));
    assert!(shipped.contains("'blades' is a built-in family"), "{shipped}");
    let height = refused(stones(ReliefPart { height: f32::NAN, ..STONES }, 3));
    assert!(height.contains("population.0.stones.height"), "{height}");
    let mut unread = stones(STONES, 3);
    unread.emitter.push(EmitterSpec::rate(3.0));
    let unread = refused(unread);
    assert!(
        unread.contains("emitter") && unread.contains("does nothing in a population of stones"),
        "{unread}"
    );
    let mut nowhere = stones(STONES, 3);
    nowhere.event.push(EventSpec::start(Moment::Death, "rocks", 2.0));
    let mut rocks = stones(STONES, 3);
    rocks.name = "rocks".to_owned();
    let nowhere = Scene::new(&scene(nowhere).with_population(rocks)).unwrap_err().to_string();
    assert!(nowhere.contains("'rocks' is not a population of particles"), "{nowhere}");
}

/// A key set by its path, and a count that is scaled, keep the family.
#[test]
fn changes_of_a_spec_keep_it() {
    let spec = scene(stones(STONES, 7));
    for changed in [spec.set("stones.count", "3").unwrap(), spec.scaled(3)] {
        let (mut scene, _) = run(&changed, 0.1);
        assert_eq!(scene.snapshot("stones").unwrap().0.elements.len(), 3);
    }
    assert_eq!(spec.warm_up_seconds(), 0.5);
}
