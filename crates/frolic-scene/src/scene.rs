//! A scene that runs: state, made from a [`SceneSpec`].

use frolic_core::{Clock, Counter, Fixtures, Meter, Particles, SpecError, Threads, World};
use frolic_draw::{
    BackdropSpec, Bounds, DrawList, Image, ImageSize, Instances, ListScratch, Look, Renderer, Show,
    Surroundings, View, chunk_bounds,
};

use crate::props::Props;
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
    props: Props,
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
    elements: Elements,
    look: Look,
}

#[derive(Debug)]
enum Elements {
    Particles(Particles),
    /// With boxes around their chunks, as they stay where they are.
    Fixtures(Fixtures, Vec<Bounds>),
}

impl Elements {
    fn len(&self) -> usize {
        match self {
            Self::Particles(particles) => particles.len(),
            Self::Fixtures(fixtures, _) => fixtures.len(),
        }
    }

    fn instances(&self, behind: f32) -> Result<Instances<'_>, SpecError> {
        match self {
            Self::Particles(particles) => Ok(Instances::of(particles.columns(), behind)),
            Self::Fixtures(fixtures, bounds) => {
                let columns = fixtures.columns();
                let instances = Instances::at(columns.position())?
                    .sized(columns.size())?
                    .turned(columns.turn(), columns.tilt())?
                    .keyed(columns.id())?
                    .bounded(bounds)?;
                match fixtures.curves() {
                    Some([middle, tip]) => instances.curved(middle, tip),
                    None => Ok(instances),
                }
            }
        }
    }
}

impl Scene {
    /// A scene at time zero, nothing born yet; all memory for elements is reserved.
    ///
    /// # Errors
    /// A value out of range, or more elements than memory allows.
    pub fn new(spec: &SceneSpec) -> Result<Self, SpecError> {
        spec.check()?;
        let props = Props::new(spec)?;
        let mut populations = Vec::with_capacity(spec.population.len());
        for (nth, population) in spec.population.iter().enumerate() {
            // Populations of one scene must not draw the same random numbers.
            let seed = spec.seed.wrapping_mul(0x9e37_79b9).wrapping_add(nth as u32);
            let look = population
                .look
                .build_with(&props.library)
                .map_err(|error| error.under(&format!("population.{nth}.look")))?;
            let elements = match &population.fixed {
                Some(fixed) => {
                    Fixtures::new(fixed, population.count, population.size, seed).map(|fixtures| {
                        let margin = look.reach_of(population.size.max, fixtures.curves());
                        let bounds = chunk_bounds(fixtures.columns().position(), margin);
                        Elements::Fixtures(fixtures, bounds)
                    })
                }
                None => Particles::with_storage(&population.particles(), seed, spec.storage)
                    .map(Elements::Particles),
            };
            let elements = elements.map_err(|error| error.under(&population.name))?;
            populations.push(Population { elements, look });
        }
        Ok(Self {
            threads: Threads::new(spec.threads),
            world: spec.world.build()?,
            view: spec.camera.view(spec.draw.size)?,
            backdrop: spec.backdrop(),
            populations,
            props,
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
                match &mut population.elements {
                    Elements::Particles(particles) => particles.step(&self.world, dt, steps, meter),
                    Elements::Fixtures(fixtures, _) => fixtures.step(&self.world, dt, steps, meter),
                }
            }
        });
        self.behind = 0.0;
        self.time += f64::from(dt) * f64::from(steps);
        self.props.tell(self.time);
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
        if size != self.spec.draw.size {
            self.spec.draw.size = size;
            self.props = Props::new(&self.spec)?;
            self.props.tell(self.time);
        }
        Ok(())
    }

    /// A population's state by name: the columns that it is drawn from.
    pub fn particles(&self, name: &str) -> Option<&Particles> {
        let nth = self.spec.population.iter().position(|population| population.name == name)?;
        match &self.populations[nth].elements {
            Elements::Particles(particles) => Some(particles),
            Elements::Fixtures(..) => None,
        }
    }

    /// Elements alive in all populations.
    pub fn alive(&self) -> usize {
        self.populations.iter().map(|population| population.elements.len()).sum()
    }

    /// The draw list of the scene as it stands, for a renderer of one's own.
    pub fn draw_list(&mut self, meter: &mut Meter) -> DrawList<'_> {
        let Self { scratch, populations, props, spec, view, backdrop, behind, time, .. } = self;
        Drawn { populations, props, spec, view, backdrop, behind: *behind, time: *time }.list(scratch, meter)
    }

    /// The view it is seen through.
    pub fn view(&self) -> &View {
        &self.view
    }

    /// Draws the scene as it stands on the CPU. The picture stays the scene's own and is drawn over by the next.
    pub fn draw(&mut self, meter: &mut Meter) -> &Image {
        self.show(Show::Picture, meter)
    }

    /// Draws the scene, or a diagnostic of how it is drawn, as [`Scene::draw`].
    pub fn show(&mut self, show: Show, meter: &mut Meter) -> &Image {
        let threads = self.threads.clone();
        threads.run(|| {
            let Self {
                scratch, populations, props, spec, view, backdrop, behind, time, renderer, image, ..
            } = self;
            let drawn = Drawn { populations, props, spec, view, backdrop, behind: *behind, time: *time };
            let list = drawn.list(scratch, meter);
            renderer.show(show, &list, view, backdrop, image, meter);
        });
        &self.image
    }

    /// Draws the scene without sky, ground and water, as straight (not premultiplied) RGBA.
    pub fn draw_transparent(&mut self, meter: &mut Meter) -> &Image {
        let threads = self.threads.clone();
        threads.run(|| {
            let Self {
                scratch, populations, props, spec, view, backdrop, behind, time, renderer, image, ..
            } = self;
            let drawn = Drawn { populations, props, spec, view, backdrop, behind: *behind, time: *time };
            let list = drawn.list(scratch, meter);
            renderer.render_transparent(&list, view, image, meter);
        });
        &self.image
    }
}

/// What a draw list is made of.
struct Drawn<'a> {
    populations: &'a [Population],
    props: &'a Props,
    spec: &'a SceneSpec,
    view: &'a View,
    backdrop: &'a BackdropSpec,
    behind: f32,
    time: f64,
}

impl<'a> Drawn<'a> {
    fn list(&self, scratch: &'a mut ListScratch, meter: &mut Meter) -> DrawList<'a> {
        let elements = self.populations.iter().filter_map(|population| {
            // Columns of one family are of one length, so none is refused.
            Some((population.elements.instances(self.behind).ok()?, &population.look))
        });
        let around = Surroundings::new(self.backdrop)
            .lights(&self.spec.light)
            .sun(self.spec.sun.as_ref())
            .time((self.time - f64::from(self.behind)) as f32);
        scratch.list(elements.chain(self.props.drawn()), &self.spec.draw.list(), self.view, &around, meter)
    }
}
