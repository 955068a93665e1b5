//! A family of one's own: soap bubbles that drift on the wind, roll off what is in the way, merge where they touch, and burst into drops when they
//! grow too large or too old. All of the family is in this file, written against the published API; the scene steps, draws, exports and profiles
//! it like built-in families.
//!
//! `cargo run --release -p frolic --example my_own_family [FOLDER] [FRAMES]` writes `my_own_family.png` and `bubbles.csv` into FOLDER, or here, and
//! prints how frame time grows with the number of bubbles, of FRAMES (10) timed at each count.

use std::path::PathBuf;

use frolic::assets::write_places;
use frolic::bodies::{BodyColumns, BodyRow, Integrator};
use frolic::core::random::Draws;
use frolic::drawing::WaterSpec;
use frolic::families::{
    BuildContext, CheckContext, DrawContext, Drawables, Elements, FamilySpec, SavedState, StepContext,
};
use frolic::fixed::PlaceSpec;
use frolic::particles::AimBy;
use frolic::prelude::*;
use frolic::scene::{Folder, TextureSpec};
use frolic::world::ObstacleShape;

/// Top of a pile in the water, in metres.
const PILE: [f32; 3] = [0.45, 0.75, 0.0];

/// What is written down of the family, beside the keys that every population has.
#[derive(Debug, Clone)]
struct BubbleSpec {
    /// Where they are blown, in metres.
    wand: [f32; 3],
    /// Radius at which one bursts, in metres.
    largest: f32,
}

impl FamilySpec for BubbleSpec {
    fn key(&self) -> &'static str {
        "bubbles"
    }

    fn reads(&self) -> &'static [&'static str] {
        &["life", "motion", "event"]
    }

    fn check(&self, population: &PopulationSpec, _context: &CheckContext<'_>) -> Result<(), SpecError> {
        if self.largest > population.size.max {
            return Ok(());
        }
        Err(SpecError::new("bubbles.largest", "is no larger than a new bubble", "write more than size"))
    }

    /// As many are blown as burst once the first are old.
    fn warm_up_seconds(&self, _population: &PopulationSpec) -> f32 {
        8.0
    }

    fn build(&self, context: &mut BuildContext<'_>) -> Result<Box<dyn Elements>, SpecError> {
        let population = context.population;
        Ok(Box::new(Bubbles {
            spec: self.clone(),
            size: context.size,
            life: population.life,
            most: context.count as usize,
            seed: context.seed,
            bodies: BodyColumns::default(),
            film: Vec::new(),
            integrator: Integrator::new(&population.motion)?.with_events(&population.event)?,
            blown: 0.0,
            next: 0,
            by_x: Vec::new(),
            gone: Vec::new(),
        }))
    }
}

/// The bubbles of one population.
#[derive(Debug, Clone)]
struct Bubbles {
    spec: BubbleSpec,
    size: Span,
    life: Span,
    most: usize,
    seed: u32,
    /// What the world acts on.
    bodies: BodyColumns,
    /// A column of the family's own: thickness of the film, 1 when new, which draining thins. It is drawn as a tint.
    film: Vec<f32>,
    integrator: Integrator,
    /// Bubbles that are due, with the fraction still owed.
    blown: f32,
    next: u32,
    /// Left ends of bubbles with their indices, sorted, to find those that touch.
    by_x: Vec<(f32, u32)>,
    gone: Vec<u32>,
}

impl Bubbles {
    /// Blows what is due in a step. A rate in proportion to the count, so that a profile may vary it.
    fn blow(&mut self, dt: f32) -> usize {
        self.blown += self.most as f32 / self.life.mean() * dt;
        let due = (self.blown as usize).min(self.most - self.bodies.len());
        self.blown -= self.blown.floor();
        for _ in 0..due {
            let draws = Draws { seed: self.seed, id: self.next };
            let ([a, b, c], [life, size, _]) = (draws.draw(0), draws.draw(1));
            let [x, y, z] = self.spec.wand;
            self.bodies.push(&BodyRow {
                px: x + (a - 0.5) * 0.3,
                py: y + (b - 0.5) * 0.7,
                pz: z + (c - 0.5) * 1.6,
                vx: 1.0 + a,
                vy: 0.2 + 0.5 * c,
                vz: (c - 0.5) * 0.8,
                life: self.life.at(life),
                // Many small ones, few large.
                size: self.size.at(size * size * size),
                id: self.next,
                key: self.next,
                ..BodyRow::default()
            });
            self.film.push(1.0);
            self.next = self.next.wrapping_add(1);
        }
        due
    }

    /// Merges bubbles that touch: volume and momentum are kept. Sorted by their left ends, each is compared with those that begin before it ends.
    fn merge(&mut self) {
        let Self { bodies, film, by_x, gone, spec, .. } = self;
        by_x.clear();
        by_x.extend((0..bodies.len()).map(|i| (bodies.px()[i] - bodies.size()[i], i as u32)));
        by_x.sort_unstable_by(|a, b| a.0.total_cmp(&b.0));
        for (nth, &(_, first)) in by_x.iter().enumerate() {
            let Some(mut a) = bodies.row(first as usize).filter(|row| row.age < row.life) else { continue };
            let end = a.px + a.size;
            for &(_, second) in by_x[nth + 1..].iter().take_while(|(start, _)| *start < end) {
                let Some(mut b) = bodies.row(second as usize).filter(|row| row.age < row.life) else {
                    continue;
                };
                let off = [a.px - b.px, a.py - b.py, a.pz - b.pz];
                let reach = a.size + b.size;
                if off.iter().map(|d| d * d).sum::<f32>() > reach * reach {
                    continue;
                }
                let (u, v) = (a.size.powi(3), b.size.powi(3));
                let mean = |a: f32, b: f32| (a * u + b * v) / (u + v);
                (a.px, a.py, a.pz) = (mean(a.px, b.px), mean(a.py, b.py), mean(a.pz, b.pz));
                (a.vx, a.vy, a.vz) = (mean(a.vx, b.vx), mean(a.vy, b.vy), mean(a.vz, b.vz));
                film[first as usize] = mean(film[first as usize], film[second as usize]);
                a.size = (u + v).cbrt();
                if a.size > spec.largest {
                    // Its life ends, which the integrator notes in the next step.
                    a.life = a.age;
                }
                b.life = f32::NEG_INFINITY;
                bodies.put(second as usize, &b);
                bodies.put(first as usize, &a);
                gone.push(second);
                if a.age >= a.life {
                    break;
                }
            }
        }
    }
}

impl Elements for Bubbles {
    fn len(&self, _context: DrawContext<'_>) -> usize {
        self.bodies.len()
    }

    fn bytes(&self, _context: DrawContext<'_>) -> u64 {
        (self.bodies.len() * (BodyColumns::BYTES_PER_ELEMENT + size_of::<f32>())) as u64
    }

    fn step(&mut self, context: &mut StepContext<'_>) -> Result<(), SpecError> {
        for _ in 0..context.steps {
            // Wind, gusts, fields, obstacles, collectors: all that the world has.
            let dead =
                self.integrator.step(self.bodies.bodies(), context.world, context.dt, context.meter)?;
            self.gone.clear();
            self.gone.extend_from_slice(dead);
            // What burst starts drops.
            context.start(self.integrator.happened());
            context.add_caught(self.integrator.caught());
            let started = context.meter.start(Stage::Retire);
            self.film.iter_mut().for_each(|film| *film *= 1.0 - 0.22 * context.dt);
            self.merge();
            context.meter.stop(started);
            self.gone.sort_unstable();
            self.gone.dedup();
            self.bodies.remove_sorted(&self.gone);
            let mut nth = 0..;
            let gone = &self.gone;
            self.film.retain(|_| nth.next().is_none_or(|nth: u32| gone.binary_search(&nth).is_err()));
            context.meter.add(Counter::Retired, self.gone.len() as u64);
            let blown = self.blow(context.dt);
            context.meter.add(Counter::Emitted, blown as u64);
        }
        context.meter.add(Counter::Alive, self.bodies.len() as u64);
        Ok(())
    }

    fn instances<'a>(&'a self, context: DrawContext<'a>) -> Result<Drawables<'a>, SpecError> {
        Ok(Drawables::one(Instances::of(&self.bodies, context.lag).tinted(&self.film)?))
    }

    // The rest is for `Scene::save` and `Scene::restore`; a family that is never saved leaves it out.

    fn try_clone(&self) -> Option<Box<dyn Elements>> {
        Some(Box::new(self.clone()))
    }

    fn save(&self) -> Result<SavedState, SpecError> {
        let mut state = SavedState::default();
        state.put_part("bodies", self.bodies.save());
        state.put_part("integrator", self.integrator.save());
        state.put_floats("film", &self.film);
        state.put("blown", &self.blown);
        state.put("next", &self.next);
        Ok(state)
    }

    fn restore(&mut self, state: &SavedState) -> Result<(), SpecError> {
        self.bodies.restore(state.part("bodies")?)?;
        self.integrator.restore(state.part("integrator")?)?;
        self.film = state.floats("film")?.to_vec();
        (self.blown, self.next) = (state.value("blown")?, state.value("next")?);
        if self.film.len() == self.bodies.len() {
            return Ok(());
        }
        Err(SpecError::new("film", "is not as long as the other columns", "restore what was saved"))
    }
}

/// A film that is thick at the rim, thin in the middle, with the light of a window and its reflection.
fn film(x: u32, y: u32, side: u32) -> [u8; 4] {
    let at = |k: u32| (k as f32 + 0.5) / side as f32 * 2.0 - 1.0;
    let (x, y) = (at(x), at(y));
    let r = x.hypot(y);
    let edge = ((1.0 - r) * side as f32 * 0.5).clamp(0.0, 1.0);
    let rim = r.powi(6);
    let light = |u: f32, v: f32, wide: f32| (-((x - u).powi(2) + (y - v).powi(2)) / (wide * wide)).exp();
    let window = light(-0.42, -0.48, 0.13) + 0.45 * light(0.5, 0.52, 0.10);
    let turn = y.atan2(x) + r * 3.0;
    let hue = |shift: f32| 0.66 + 0.34 * (turn * 2.0 + shift).sin();
    let colour = [hue(0.0), hue(2.1), hue(4.2)].map(|c| (c * rim + window) / (rim + window).max(1e-3));
    let cover = (0.05 + rim * 0.95 + window).min(1.0) * edge;
    let [r, g, b] = colour.map(|c| (c.min(1.0) * 255.0) as u8);
    [r, g, b, (cover * 255.0) as u8]
}

/// A place, in metres.
fn at(position: [f32; 3]) -> PlaceSpec {
    let mut place = PlaceSpec::default();
    place.position = position;
    place
}

fn scene(count: u32, folder: PathBuf) -> Result<SceneSpec, SpecError> {
    let mut spec = SceneSpec::new("soap bubbles by the harbour");
    spec.folder = Folder::At(folder);
    let [x, top, z] = PILE;
    let pile = ObstacleShape::Capsule { from: [x, -3.0, z], to: PILE, radius: 0.3 };
    spec.world = WorldSpec::default()
        .wind([0.55, 0.06, 0.0])
        .gusts(0.5, 1.4)
        .obstacle(ObstacleSpec::new(pile).bounce(0.2, 0.0));
    spec.texture.push(TextureSpec::new("film", "bubble.png"));
    (spec.camera.position, spec.camera.target) = ([0.1, 1.15, 5.0], [0.1, 1.2, 0.0]);
    spec.sky.zenith = Colour::new(0.012, 0.030, 0.075);
    spec.sky.horizon = Colour::new(0.26, 0.13, 0.075);
    let mut water = WaterSpec::default();
    (water.level, water.colour, water.waves) = (-0.25, Colour::new(0.004, 0.012, 0.020), 0.04);
    spec.water = Some(water);
    let mut sun = SunSpec::default();
    (sun.height_degrees, sun.bearing_degrees) = (24.0, 235.0);
    spec.sun = Some(sun);

    // A pile to moor at, of pieces as high as they are wide, and the cap on it.
    let mut pieces = FixedSpec::default();
    pieces.at = (0..5).map(|nth| at([x, top - 0.6 * (nth + 1) as f32, z])).collect();
    let mut cap = FixedSpec::default();
    cap.at = vec![at(PILE)];
    for (name, mesh, fixed, size, colour) in
        [("pile", "post", pieces, 0.6, "#6e4a30"), ("cap", "ball", cap, 0.54, "#d8cdb4")]
    {
        let (count, look) = (fixed.at.len() as u32, LookSpec::solid(Shape::mesh(mesh), colour)?);
        spec = spec.with_population(PopulationSpec::fixed(name, fixed, count, Span::from(size), look));
    }

    let mut look = LookSpec::default().opacity_over_age([(0.0, 0.0), (0.04, 1.0), (0.97, 1.0), (1.0, 0.6)]);
    look.shape = Shape::Billboard(BillboardSpec::new("film"));
    look.colour_over_age = Ramp::constant(Colour::WHITE);
    look.tints =
        ["#ffb870", "#ff8fb8", "#b9a0ff", "#8fe0ff", "#ffffff"].into_iter().filter_map(Colour::hex).collect();
    let family = BubbleSpec { wand: [-2.6, 0.95, 0.0], largest: 0.34 };
    let mut bubbles = PopulationSpec::of("bubbles", family, count, Span::new(0.035, 0.16), look);
    bubbles.life = Span::new(4.0, 9.0);
    (bubbles.motion.drag, bubbles.motion.weight) = (3.0, -0.006);
    let burst = EventSpec::start(Moment::Death, "drops", 14.0).cone(AimBy::World, 180.0, Span::new(0.3, 1.1));
    bubbles.event.push(burst.keep_velocity(0.6));
    spec = spec.with_population(bubbles);

    let drops = ParticleSpec::new(count * 8).life(0.3, 0.8).size(0.005, 0.012).motion(1.5, 0.5);
    spec = spec.with("drops", drops, LookSpec::glowing(3.0, [(0.0, "#ffe6d0"), (1.0, "#806a80")])?);
    spec.profile.population = Some("bubbles".to_owned());
    Ok(spec)
}

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let folder = PathBuf::from(std::env::args().nth(1).unwrap_or_else(|| ".".to_owned()));
    let mut texture = Image::transparent(ImageSize::new(128, 128)?);
    texture.paint(|x, y| film(x, y, 128));
    write_png(folder.join("bubble.png"), &texture)?;

    let spec = scene(260, folder.clone())?;
    let mut scene = Scene::new(&spec)?;
    let mut meter = Meter::new();
    meter.begin_frame();
    scene.run_to(9.0, &mut meter);
    write_png(folder.join("my_own_family.png"), scene.draw(&mut meter)?)?;
    let frame = meter.end_frame();
    println!("{} bursts, {} hits of the pile", frame.count(Counter::Events), frame.count(Counter::Hits));
    if let Some((places, mesh)) = scene.snapshot("bubbles") {
        write_places(folder.join("bubbles.csv"), &places, &mesh)?;
        println!("{} bubbles and where they are in bubbles.csv", places.elements.len());
    }
    // What follows can be undone.
    let saved = scene.save()?;
    scene.run_to(9.5, &mut meter);
    scene.restore(&saved)?;
    println!("back at {} s, the same bits: {}", scene.time(), scene.save()? == saved);

    let mut plan = Plan::default();
    plan.counts = "100,400,1600".parse()?;
    plan.frames = std::env::args().nth(2).map_or(Ok(10), |text| text.parse())?;
    let profile = sweep("bubbles", &spec, &plan, None, |_| true)?;
    println!("{}", profile.table());
    Ok(())
}
