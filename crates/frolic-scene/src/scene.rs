//! A scene that runs: state, made from a [`SceneSpec`].

use frolic_core::{Clock, Counter, Meter, Particles, SpecError, Threads, World};
use frolic_draw::{BackdropSpec, DrawList, Image, ImageSize, Instances, ListScratch, Look, Renderer, View};

use crate::spec::SceneSpec;

/// Populations, world, camera and renderer of one scene.
///
/// ```
/// use frolic_core::{Counter, Meter};
/// use frolic_scene::{Scene, SceneSpec};
///
/// let mut scene = Scene::new(&SceneSpec::find("beacon")?)?;
/// let mut meter = Meter::new();
/// meter.begin_frame();
/// scene.run_to(0.5, &mut meter);
/// let image = scene.draw(&mut meter);
/// assert_eq!(meter.end_frame().count(Counter::Steps), 30);
/// assert_eq!(image.size().width(), 1280);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Debug)]
pub struct Scene {
    spec: SceneSpec,
    threads: Threads,
    world: World,
    view: View,
    backdrop: BackdropSpec,
    populations: Vec<Population>,
    clock: Clock,
    /// How long before the state of the populations the picture is taken, s.
    behind: f32,
    time: f64,
    scratch: ListScratch,
    renderer: Renderer,
    image: Image,
}

#[derive(Debug)]
struct Population {
    particles: Particles,
    look: Look,
}

impl Scene {
    /// A scene at time zero, nothing born yet; all memory for elements is reserved.
    ///
    /// # Errors
    /// A value out of range, or more elements than memory allows.
    pub fn new(spec: &SceneSpec) -> Result<Self, SpecError> {
        spec.check()?;
        let mut populations = Vec::with_capacity(spec.population.len());
        for (nth, population) in spec.population.iter().enumerate() {
            // Populations of one scene must not draw the same random numbers.
            let seed = spec.seed.wrapping_mul(0x9e37_79b9).wrapping_add(nth as u32);
            let particles = Particles::with_storage(&population.particles(), seed, spec.storage)
                .map_err(|error| error.under(&population.name))?;
            populations.push(Population { particles, look: population.look.build()? });
        }
        Ok(Self {
            threads: Threads::new(spec.threads),
            world: spec.world.build()?,
            view: spec.camera.view(spec.draw.size)?,
            backdrop: spec.backdrop(),
            populations,
            clock: Clock::new(spec.clock),
            behind: 0.0,
            time: 0.0,
            scratch: ListScratch::default(),
            renderer: Renderer::new(),
            image: Image::new(spec.draw.size),
            spec: spec.clone(),
        })
    }

    /// What it was made from.
    pub fn spec(&self) -> &SceneSpec {
        &self.spec
    }

    /// The team of threads it runs on. A loop that runs whole inside `threads().run(..)` allocates nothing a frame.
    pub fn threads(&self) -> Threads {
        self.threads.clone()
    }

    /// Lets `elapsed` seconds of a frame pass: as many fixed steps as are due, at most the clock's cap.
    pub fn tick(&mut self, elapsed: f64, meter: &mut Meter) {
        let tick = self.clock.advance(elapsed);
        let step = self.spec.clock.step();
        self.step(step, tick.steps, meter);
        self.behind = (1.0 - tick.alpha) * step;
        meter.add(Counter::StepsDropped, u64::from(tick.dropped));
    }

    /// Runs to a moment, s after the start, in fixed steps and without the cap; does nothing if it has passed.
    pub fn run_to(&mut self, seconds: f64, meter: &mut Meter) {
        while self.run_some(seconds, 1024, meter) {}
    }

    /// Takes at most `most` steps of [`Scene::run_to`]; returns whether there are more to take.
    pub fn run_some(&mut self, seconds: f64, most: u32, meter: &mut Meter) -> bool {
        let step = self.spec.clock.step();
        let left = ((seconds - self.time) / f64::from(step) - 1e-6).ceil().max(0.0);
        let steps = left.min(f64::from(most)) as u32;
        self.step(step, steps, meter);
        if steps > 0 && f64::from(steps) == left {
            self.behind = (self.time - seconds).max(0.0) as f32;
        }
        f64::from(steps) < left
    }

    /// Takes steps of any length, s: for getting to a settled state quickly.
    pub fn step(&mut self, dt: f32, steps: u32, meter: &mut Meter) {
        let threads = self.threads.clone();
        threads.run(|| {
            for population in &mut self.populations {
                population.particles.step(&self.world, dt, steps, meter);
            }
        });
        self.behind = 0.0;
        self.time += f64::from(dt) * f64::from(steps);
        meter.add(Counter::Steps, u64::from(steps));
    }

    /// Seconds stepped so far.
    pub fn time(&self) -> f64 {
        self.time
    }

    /// Gives the picture another size.
    ///
    /// # Errors
    /// As the camera's view.
    pub fn resize(&mut self, size: ImageSize) -> Result<(), SpecError> {
        self.view = self.spec.camera.view(size)?;
        Ok(())
    }

    /// A population's state by name: the columns that it is drawn from.
    pub fn particles(&self, name: &str) -> Option<&Particles> {
        let nth = self.spec.population.iter().position(|population| population.name == name)?;
        Some(&self.populations[nth].particles)
    }

    /// Elements alive in all populations.
    pub fn alive(&self) -> usize {
        self.populations.iter().map(|population| population.particles.len()).sum()
    }

    /// The draw list of the scene as it stands, for a renderer of one's own.
    pub fn draw_list(&mut self, meter: &mut Meter) -> DrawList<'_> {
        list(&mut self.scratch, &self.populations, &self.spec, &self.view, &self.backdrop, self.behind, meter)
    }

    /// The view it is seen through.
    pub fn view(&self) -> &View {
        &self.view
    }

    /// Draws the scene as it stands on the CPU. The picture stays the scene's own and is drawn over by the next.
    pub fn draw(&mut self, meter: &mut Meter) -> &Image {
        let threads = self.threads.clone();
        threads.run(|| {
            let Self { scratch, populations, spec, view, backdrop, behind, renderer, image, .. } = self;
            let list = list(scratch, populations, spec, view, backdrop, *behind, meter);
            renderer.render(&list, view, backdrop, image, meter);
        });
        &self.image
    }
}

fn list<'a>(
    scratch: &'a mut ListScratch,
    populations: &'a [Population],
    spec: &'a SceneSpec,
    view: &View,
    backdrop: &BackdropSpec,
    behind: f32,
    meter: &mut Meter,
) -> DrawList<'a> {
    let sources = populations
        .iter()
        .map(|population| (Instances::of(population.particles.columns(), behind), &population.look));
    scratch.list(sources, spec.draw.technique, view, backdrop, &spec.light, meter)
}
