//! Running scenes: state built from a [`SceneSpec`].

use std::panic::{AssertUnwindSafe, catch_unwind};

use frolic_core::{
    Assets, Clock, Counter, Frame, FrameBudget, Meter, ParticleSet, ParticleSpec, Particles, Path,
    QualityChange, QualitySetting, SpecError, Storage, Threads, World,
};
use frolic_diagnostics::{Mark, Plan, Show};
use frolic_draw::{
    BackdropSpec, CameraSpec, DepthOrder, DrawList, Image, ImageSize, Look, LookSpec, Mesh, Renderer,
    SunSpec, Technique, View,
};
use frolic_list::{ListScratch, Surroundings};

use crate::decor::Decor;
use crate::device::Device;
use crate::error::{DeviceError, SceneError};
use crate::families::registry;
use crate::families::{BuildContext, DrawContext, Elements, Ended, GroundPlan, StepContext};
use crate::places_file::Places;
use crate::population::PopulationSpec;
use crate::spec::{Backend, Residence, SceneSpec};
use crate::terrain::TerrainMesh;

/// A running scene: populations, world, camera and renderer.
///
/// ```
/// use frolic_core::{Counter, Meter};
/// use frolic_scene::{Scene, SceneSpec};
///
/// let mut scene = Scene::new(&SceneSpec::find("beacon")?)?;
/// let mut meter = Meter::new();
/// meter.begin_frame();
/// scene.run_to(0.5, &mut meter);
/// let image = scene.draw(&mut meter)?;
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
    /// CPU particle populations, joined by events that start elements of one another.
    set: ParticleSet,
    decor: Decor,
    clock: Clock,
    frame_budget: Option<FrameBudget>,
    travel: Option<Path>,
    /// Interpolation lag: time from the picture to the state of the populations, in seconds.
    lag: f32,
    time: f64,
    /// Number of elements that each collector has picked up since the start.
    caught: Vec<u64>,
    scratch: ListScratch,
    renderer: Renderer,
    image: Image,
    device: Option<Device>,
    remark: Option<String>,
    /// An error of the device while stepping, which the next call that draws returns.
    fault: Option<DeviceError>,
    /// Populations that have ended, for the next calls that draw.
    ended: Vec<SceneError>,
}

#[derive(Debug)]
struct Population {
    name: String,
    /// Maximum number of elements, of a program's own family. Shipped families keep to theirs; endless ground has none.
    most: usize,
    elements: Box<dyn Elements>,
    /// Number of its events in the set, for populations of other families than particles.
    source: usize,
    look: Look,
    /// Looks of kinds 1 and up.
    kinds: Vec<Look>,
    /// Look of the trails.
    trail: Option<Look>,
}

impl Population {
    /// Lets its elements do something. If they cannot, or panic, the population ends, and the rest of the scene is left as it is.
    fn attempt(&mut self, ended: &mut Vec<SceneError>, act: impl FnOnce(&mut Self) -> Result<(), SpecError>) {
        let done = catch_unwind(AssertUnwindSafe(|| act(self)));
        let problem = match done {
            Ok(Ok(())) => return,
            Ok(Err(error)) => error.to_string(),
            Err(panic) => {
                let text = panic.downcast_ref::<String>().map(String::as_str);
                let text = text.or_else(|| panic.downcast_ref::<&str>().copied()).unwrap_or("no message");
                format!("its code panicked: {text}")
            }
        };
        self.elements = Box::new(Ended);
        ended.push(SceneError::Population { population: self.name.clone(), problem });
    }

    fn step(&mut self, context: &mut StepContext<'_>) -> Result<(), SpecError> {
        self.elements.step(context)?;
        let len = self.elements.len(DrawContext { set: context.set, lag: 0.0 });
        if len <= self.most {
            return Ok(());
        }
        let problem = format!("it has {len} elements");
        Err(SpecError::new("count", problem, format!("keep to {} elements, its count", self.most)))
    }

    /// Prepares drawing: updates trails, and gathers the visible elements of populations that need it.
    fn prepare(&mut self, context: DrawContext<'_>, view: &View, sun: Option<&SunSpec>, meter: &mut Meter) {
        let taper = self.trail.as_ref().and_then(Look::taper);
        self.elements.prepare(context, view, sun, taper, meter);
    }
}

impl Scene {
    /// Builds a scene at time 0, before anything is emitted, and reserves all memory for elements.
    ///
    /// # Errors
    /// A value is out of range, or the elements need more memory than allowed.
    pub fn new(spec: &SceneSpec) -> Result<Self, SpecError> {
        spec.check()?;
        let given = spec;
        let spec = &spec.in_weather();
        let assets = crate::assets::load(&spec.asset, &spec.folder)?;
        let world = spec.world.build_with(&assets).map_err(|error| error.under("world"))?;
        let mut decor = Decor::new(spec, &world)?;
        decor.terrains = TerrainMesh::all(&spec.terrain, &spec.population, spec.seed, &assets)?;
        let (mut device, remark) = open(spec)?;
        let mut set = ParticleSet::default();
        let seasonal: Vec<_> = spec.population.iter().map(|it| it.in_season(spec.season)).collect();
        let stays = stays(spec, &seasonal, &world, &assets)?;
        let mut populations = Vec::with_capacity(spec.population.len());
        for ((nth, population), (particles, dressed)) in spec.population.iter().enumerate().zip(&seasonal) {
            // Each population needs its own random numbers.
            let seed = spec.seed.wrapping_mul(0x9e37_79b9).wrapping_add(nth as u32);
            let look = dressed
                .build_with(&decor.library)
                .map_err(|error| error.under(&format!("population.{nth}.look")))?;
            let kinds = population.kind.iter().enumerate().map(|(kind, look)| {
                let under = |error: SpecError| error.under(&format!("population.{nth}.kind.{kind}"));
                look.build_with(&decor.library).map_err(under)
            });
            let kinds = kinds.collect::<Result<Vec<_>, _>>()?;
            let mut context = BuildContext {
                population,
                count: population.count,
                size: particles.size,
                seed,
                assets: &assets,
                look: &look,
                kinds: &kinds,
                look_spec: dressed,
                particles,
                storage: spec.storage,
                set: &mut set,
                device: device.as_mut().filter(|_| !stays.contains(&nth)),
                joined: false,
            };
            let (elements, source) =
                registry::build(&mut context).map_err(|error| error.under(&population.name))?;
            let under = |error: SpecError| error.under(&format!("population.{nth}.trail.look"));
            let trail =
                population.trail.as_ref().map(|trail| trail.look.build_with(&decor.library).map_err(under));
            let trail = trail.transpose()?;
            let most = population.own.as_ref().map_or(usize::MAX, |_| population.count as usize);
            let name = population.name.clone();
            populations.push(Population { name, most, elements, source, look, kinds, trail });
        }
        set.link()?;
        device.as_mut().map_or(Ok(()), Device::link)?;
        Ok(Self {
            threads: Threads::new(spec.threads),
            world,
            set,
            view: spec.camera.view(spec.draw.size)?,
            travel: spec.travel.as_ref().map(Path::new),
            backdrop: spec.backdrop(),
            populations,
            decor,
            clock: Clock::new(spec.clock),
            frame_budget: spec.frame_budget.as_ref().map(FrameBudget::new).transpose()?,
            lag: 0.0,
            time: 0.0,
            caught: vec![0; spec.world.collector.len()],
            scratch: ListScratch::default(),
            renderer: Renderer::new(),
            image: Image::new(spec.draw.size),
            device,
            remark,
            fault: None,
            ended: Vec::new(),
            spec: given.clone(),
        })
    }

    /// Returns the spec that the scene was built from.
    pub fn spec(&self) -> &SceneSpec {
        &self.spec
    }

    /// Returns the thread pool of the scene. A frame loop inside `threads().run(..)` allocates nothing after warm-up.
    pub fn threads(&self) -> Threads {
        self.threads.clone()
    }

    /// Advances time by `elapsed` seconds: takes the fixed steps that are due, up to the cap of the clock.
    pub fn tick(&mut self, elapsed: f64, meter: &mut Meter) {
        let tick = self.clock.advance(elapsed);
        let step = self.clock.step();
        self.step(step, tick.steps, meter);
        self.lag = (1.0 - tick.alpha) * step;
        meter.add(Counter::StepsDropped, u64::from(tick.dropped));
    }

    /// Reports the duration of a whole frame to the frame budget. Returns the quality setting that the frame budget changed, if any.
    pub fn keep_budget(&mut self, frame: &Frame) -> Option<QualityChange> {
        let budget = self.frame_budget.as_mut()?;
        let change = budget.after(frame.total());
        let [detail, density, rate] = [QualitySetting::Detail, QualitySetting::Density, QualitySetting::Rate]
            .map(|setting| budget.share(setting));
        for population in &mut self.populations {
            population.look.ease(detail, density);
            population.kinds.iter_mut().for_each(|look| look.ease(detail, density));
            population.trail.iter_mut().for_each(|look| look.ease(detail, density));
        }
        self.set.members_mut().iter_mut().for_each(|member| member.thin(density));
        self.clock.set_rate((self.spec.clock.rate * rate).max(1.0));
        change
    }

    /// Returns the frame budget, which holds frames within a time budget, if the scene has one.
    pub fn frame_budget(&self) -> Option<&FrameBudget> {
        self.frame_budget.as_ref()
    }

    /// Runs to a time, in seconds after the start, in fixed steps and without the cap. Does nothing if that time has passed.
    pub fn run_to(&mut self, seconds: f64, meter: &mut Meter) {
        while self.run_some(seconds, 1024, meter) {}
    }

    /// Takes at most `most` steps towards a time, as [`Scene::run_to`]. Returns whether steps are left.
    pub fn run_some(&mut self, seconds: f64, most: u32, meter: &mut Meter) -> bool {
        let step = self.spec.clock.step();
        // The length of a step is rounded to a float: that error, summed over all steps, must not become another step.
        let rounding = 1e-6 + seconds / f64::from(step) * f64::from(f32::EPSILON);
        let left = ((seconds - self.time) / f64::from(step) - rounding).ceil().max(0.0);
        let steps = left.min(f64::from(most)) as u32;
        self.step(step, steps, meter);
        if steps > 0 && f64::from(steps) == left {
            self.lag = (self.time - seconds).max(0.0) as f32;
        }
        f64::from(steps) < left
    }

    /// Takes steps of any length, in seconds, for example to reach a steady state quickly.
    pub fn step(&mut self, dt: f32, steps: u32, meter: &mut Meter) {
        let threads = self.threads.clone();
        threads.run(|| {
            let Self {
                populations, set, world, device, fault, ended, caught, time, travel, spec, view, ..
            } = self;
            let camera = camera_at(spec, travel.as_ref(), *time + f64::from(dt) * f64::from(steps));
            let [x, _, z] = camera.target;
            let seen_from = camera.view(view.size()).unwrap_or(*view);
            for population in populations.iter_mut() {
                population.attempt(ended, |population| {
                    population.elements.recentre([x, z]);
                    Ok(())
                });
            }
            if let Some(device) = device {
                device.recentre([x, z]);
            }
            set.members_mut().iter_mut().for_each(|member| {
                member.recentre([x, z]);
            });
            let grouped = spec.draw.technique == Technique::Tiled && device.is_none();
            let mut advance = |world: &World, steps: u32, meter: &mut Meter| {
                set.step(world, dt, steps, meter);
                add_up(caught, set);
                for population in populations.iter_mut() {
                    let mut context = StepContext {
                        world,
                        set,
                        source: population.source,
                        caught,
                        view: &seen_from,
                        sun: spec.sun.as_ref(),
                        lights: &spec.light,
                        grouped,
                        dt,
                        steps,
                        meter,
                    };
                    population.attempt(ended, |population| population.step(&mut context));
                }
                if let Some(device) = device.as_mut().filter(|_| fault.is_none()) {
                    *fault = device.step(world, dt, steps, meter).err();
                    device.take_caught(caught);
                }
            };
            if world.changes() {
                for nth in 0..steps {
                    let now = *time + f64::from(nth) * f64::from(dt);
                    let [x, _, z] = camera_at(spec, travel.as_ref(), now).target;
                    world.recentre([x, z]);
                    world.advance(now, dt);
                    if nth > 0 {
                        meter.forget(Counter::Alive);
                        meter.forget(Counter::ElementBytes);
                    }
                    advance(world, 1, meter);
                }
            }
            if steps == 0 || !world.changes() {
                advance(world, steps, meter);
            }
        });
        self.lag = 0.0;
        self.time += f64::from(dt) * f64::from(steps);
        self.decor.tell(self.time, &self.caught);
        self.decor.follow(&self.world);
        if self.travel.is_some()
            && let Ok(view) = camera_at(&self.spec, self.travel.as_ref(), self.time).view(self.spec.draw.size)
        {
            self.view = view;
        }
        meter.add(Counter::Steps, u64::from(steps));
        if let Some(budget) = &self.frame_budget {
            let percent = |setting: QualitySetting| (budget.share(setting) * 100.0).round() as u64;
            for (counter, setting) in [
                (Counter::DetailPercent, QualitySetting::Detail),
                (Counter::DensityPercent, QualitySetting::Density),
                (Counter::RatePercent, QualitySetting::Rate),
            ] {
                meter.forget(counter);
                meter.add(counter, percent(setting));
            }
        }
    }

    /// Returns the simulated time, in seconds.
    pub fn time(&self) -> f64 {
        self.time
    }

    /// Resizes the picture.
    ///
    /// # Errors
    /// The size is not one that the camera or the texts of the scene can use.
    pub fn resize(&mut self, size: ImageSize) -> Result<(), SpecError> {
        self.view = camera_at(&self.spec, self.travel.as_ref(), self.time).view(size)?;
        if size != self.spec.draw.size {
            self.spec.draw.size = size;
            let mut decor = Decor::new(&self.spec, &self.world)?;
            std::mem::swap(&mut decor.terrains, &mut self.decor.terrains);
            self.decor = decor;
            self.decor.tell(self.time, &self.caught);
        }
        Ok(())
    }

    /// Returns the state of a CPU particle population by name.
    pub fn particles(&self, name: &str) -> Option<&Particles> {
        self.set.get(name)
    }

    /// CPU particle populations by name, for commanding their emitters.
    pub fn particles_mut(&mut self, name: &str) -> Option<&mut Particles> {
        self.set.get_mut(name)
    }

    /// Returns the placement of every element of a population at the time of the picture, and the mesh that stands for an element: a blade for ribbons, a
    /// small box for flat shapes. Exports write these. None if there is no such population, or if it is device-resident.
    pub fn snapshot(&mut self, name: &str) -> Option<(Places, Mesh)> {
        let nth = self.place_of(name)?;
        let Self { populations, set, lag, .. } = self;
        let population = &mut populations[nth];
        let places = population.elements.places(DrawContext { set, lag: *lag })?;
        Some((places, population.look.model()))
    }

    fn place_of(&self, name: &str) -> Option<usize> {
        self.spec.population.iter().position(|population| population.name == name)
    }

    /// Memory that the elements of a population hold, in bytes: 0 if it is device-resident, none if there is no such population.
    pub fn bytes(&self, name: &str) -> Option<u64> {
        let nth = self.place_of(name)?;
        Some(self.populations[nth].elements.bytes(DrawContext { set: &self.set, lag: self.lag }))
    }

    /// Returns the world: wind, fields, obstacles, collectors.
    pub fn world(&self) -> &World {
        &self.world
    }

    /// The world, for digging masks and moving collectors.
    pub fn world_mut(&mut self) -> &mut World {
        &mut self.world
    }

    /// Returns the number of elements that each collector has picked up since the start.
    pub fn caught(&self) -> &[u64] {
        &self.caught
    }

    /// Returns the number of live elements. The count of device-resident populations is that of the latest readback.
    pub fn alive(&self) -> usize {
        let context = DrawContext { set: &self.set, lag: self.lag };
        let here: usize = self.populations.iter().map(|population| population.elements.len(context)).sum();
        here + self.device.as_ref().map_or(0, Device::alive)
    }

    /// Builds the draw list of the present state, for a renderer of your own.
    pub fn draw_list(&mut self, meter: &mut Meter) -> DrawList<'_> {
        let Drawing { drawn, scratch, .. } = self.drawing();
        drawn.list(scratch, meter)
    }

    /// Borrows the inputs of a draw list apart from everything that draws it.
    fn drawing(&mut self) -> Drawing<'_> {
        let drawn = Drawn {
            populations: &mut self.populations,
            ended: &mut self.ended,
            set: &self.set,
            decor: &self.decor,
            spec: &self.spec,
            view: &self.view,
            backdrop: &self.backdrop,
            lag: self.lag,
            time: self.time,
        };
        Drawing {
            drawn,
            scratch: &mut self.scratch,
            renderer: &mut self.renderer,
            image: &mut self.image,
            device: self.device.as_mut(),
        }
    }

    /// Returns the current view.
    pub fn view(&self) -> &View {
        &self.view
    }

    /// Returns a remark on the choice of backend, if any: the name of the device that draws, or why there is none.
    pub fn remark(&self) -> Option<&str> {
        self.remark.as_deref()
    }

    /// Returns whether a graphics device draws the scene.
    pub fn is_on_device(&self) -> bool {
        self.device.is_some()
    }

    /// Draws the present state. The scene owns the picture, and the next call overwrites it.
    ///
    /// # Errors
    /// The graphics device was lost, or is too small for the scene. The CPU never fails.
    pub fn draw(&mut self, meter: &mut Meter) -> Result<&Image, SceneError> {
        self.show(Show::Picture, meter)
    }

    /// Draws the present state, or a diagnostic view of it.
    ///
    /// # Errors
    /// As [`Scene::draw`]. Also, a graphics device paints no diagnostic views.
    pub fn show(&mut self, show: Show, meter: &mut Meter) -> Result<&Image, SceneError> {
        match show {
            Show::Placement => return self.show_placement(),
            Show::Wind => return Ok(self.show_wind()),
            _ => {}
        }
        if self.device.is_some() {
            if show != Show::Picture {
                let name = show.name();
                return Err(DeviceError::CpuOnly { view: name }.into());
            }
            self.on_device(Take::Picture, meter)?;
            return Ok(&self.image);
        }
        self.paint(meter, |renderer, list, view, backdrop, image, meter| {
            show.paint(renderer, list, view, backdrop, image, meter);
        });
        self.take_ended()?;
        Ok(&self.image)
    }

    /// Paints the plan of the population that profiles vary, if it is placed, else of the first population that is.
    fn show_placement(&mut self) -> Result<&Image, SceneError> {
        let Self { populations, spec, image, view, .. } = self;
        let climbing = spec.climbing().map(|population| population.name.as_str());
        let is_climbing = |nth: &usize| Some(spec.population[*nth].name.as_str()) == climbing;
        let all = 0..populations.len();
        let first = all
            .clone()
            .filter(is_climbing)
            .chain(all)
            .find_map(|nth| Some((nth, populations[nth].elements.plan()?)));
        let Some((nth, GroundPlan { marks, placement: terrain, extent })) = first else {
            let problem = "nothing in it is placed: particles are where they are at the moment";
            return Err(SpecError::new(
                "population",
                problem,
                "show the picture, or a scene whose elements stand where they were placed",
            )
            .into());
        };
        let [low, high] = extent.unwrap_or_else(|| around(&marks));
        let plan = Plan::of(low, high, view.size());
        let height =
            terrain.map(|placement| move |x: f32, z: f32| placement.ground(x, z).map(|footing| footing.y));
        let height = height.as_ref().map(|height| height as &dyn Fn(f32, f32) -> Option<f32>);
        plan.placement(&spec.population[nth].name, &marks, height, image);
        Ok(image)
    }

    /// Paints the wind around the target of the camera, out to the distance of the camera.
    fn show_wind(&mut self) -> &Image {
        let camera = camera_at(&self.spec, self.travel.as_ref(), self.time);
        let ([ex, ey, ez], [x, y, z]) = (camera.position, camera.target);
        let reach = ((ex - x).powi(2) + (ey - y).powi(2) + (ez - z).powi(2)).sqrt().clamp(1.0, 1e5);
        let plan = Plan::of([x - reach, z - reach], [x + reach, z + reach], self.view.size());
        let time = self.time - f64::from(self.lag);
        plan.wind(&self.world, time, y, &mut self.image);
        &self.image
    }

    /// Builds the draw list and paints it on the CPU, in the scene's thread pool.
    fn paint(
        &mut self,
        meter: &mut Meter,
        paint: impl FnOnce(&mut Renderer, &DrawList<'_>, &View, &BackdropSpec, &mut Image, &mut Meter) + Send,
    ) {
        let threads = self.threads.clone();
        threads.run(|| {
            let Drawing { drawn, scratch, renderer, image, .. } = self.drawing();
            let (view, backdrop) = (drawn.view, drawn.backdrop);
            let list = drawn.list(scratch, meter);
            paint(renderer, &list, view, backdrop, image, meter);
        });
    }

    /// Draws the present state without sky, ground and water, as straight (not premultiplied) RGBA.
    ///
    /// # Errors
    /// As [`Scene::draw`].
    pub fn draw_transparent(&mut self, meter: &mut Meter) -> Result<&Image, SceneError> {
        if self.device.is_some() {
            self.on_device(Take::SeeThrough, meter)?;
            return Ok(&self.image);
        }
        self.paint(meter, |renderer, list, view, _, image, meter| {
            renderer.render_transparent(list, view, image, meter);
        });
        self.take_ended()?;
        Ok(&self.image)
    }

    /// Draws as [`Scene::draw`], without reading the picture back from a device. It waits until the device is done. Measurements use it.
    ///
    /// # Errors
    /// As [`Scene::draw`].
    pub fn draw_in_place(&mut self, meter: &mut Meter) -> Result<(), SceneError> {
        if self.device.is_some() {
            return self.on_device(Take::Nothing, meter);
        }
        self.draw(meter).map(|_| ())
    }

    fn on_device(&mut self, take: Take, meter: &mut Meter) -> Result<(), SceneError> {
        if let Some(fault) = &self.fault {
            return Err(fault.clone().into());
        }
        let Drawing { drawn, scratch, image, device, .. } = self.drawing();
        let Some(device) = device else { return Ok(()) };
        device.record(meter);
        meter.add(Counter::ReadbackAge, device.readback_age());
        let done = {
            let (view, backdrop) = (drawn.view, drawn.backdrop);
            let list = drawn.list(scratch, meter);
            let (backdrop, image) = match take {
                Take::Picture => (Some(backdrop), Some(image)),
                Take::SeeThrough => (None, Some(image)),
                Take::Nothing => (Some(backdrop), None),
            };
            device.draw(&list, view, backdrop, image, meter)
        };
        device.request_readback();
        done.inspect_err(|problem| self.fault = Some(problem.clone()))?;
        self.take_ended()
    }

    /// Returns an error for each population that has ended, once.
    fn take_ended(&mut self) -> Result<(), SceneError> {
        if self.ended.is_empty() { Ok(()) } else { Err(self.ended.remove(0)) }
    }

    /// Waits for the present counts of device-resident populations, and adds them to the meter. This stalls; use it at the end of a run.
    ///
    /// # Errors
    /// The device was lost.
    pub fn wait(&mut self, meter: &mut Meter) -> Result<(), SceneError> {
        let Self { device: Some(device), caught, .. } = self else { return Ok(()) };
        device.wait(meter)?;
        device.take_caught(caught);
        self.decor.tell(self.time, &self.caught);
        Ok(())
    }
}

/// Returns the rectangle around marks; a default one if there are none.
fn around(marks: &[Mark]) -> [[f32; 2]; 2] {
    let mut extent = [[f32::INFINITY; 2], [f32::NEG_INFINITY; 2]];
    for place in marks.iter().map(|mark| mark.place) {
        for axis in 0..2 {
            extent[0][axis] = extent[0][axis].min(place[axis]);
            extent[1][axis] = extent[1][axis].max(place[axis]);
        }
    }
    if marks.is_empty() { [[-5.0; 2], [5.0; 2]] } else { extent }
}

/// Returns the camera at a time, in seconds, of its path.
fn camera_at(spec: &SceneSpec, travel: Option<&Path>, time: f64) -> CameraSpec {
    let mut camera = spec.camera;
    let way = travel.map_or([0.0; 3], |path| path.at(time).0.to_array());
    for axis in 0..3 {
        camera.position[axis] += way[axis];
        camera.target[axis] += way[axis];
    }
    camera
}

fn add_up(caught: &mut [u64], set: &ParticleSet) {
    for member in set.members() {
        caught.iter_mut().zip(member.caught()).for_each(|(sum, now)| *sum += now);
    }
}

/// What a device draws, and whether it is read back.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Take {
    Picture,
    SeeThrough,
    Nothing,
}

/// Opens the device that a scene asks for. Returns it with a remark on the choice.
fn open(spec: &SceneSpec) -> Result<(Option<Device>, Option<String>), SpecError> {
    let opened = match spec.backend {
        Backend::Cpu => {
            if spec.residence == Residence::Gpu {
                let problem = "is \"gpu\" where the CPU draws";
                return Err(SpecError::new("residence", problem, "write backend = \"gpu\" too"));
            }
            return Ok((None, None));
        }
        Backend::Gpu | Backend::Auto => Device::open(),
    };
    match (opened, spec.backend) {
        (Ok(device), _) => {
            if spec.residence == Residence::Gpu && !could_live_on_device(spec) {
                let problem = "is \"gpu\", but what lives on the device is held as columns, drawn instanced or indirect, and in a depth \
                               order of its own";
                return Err(SpecError::new("residence", problem, "write residence = \"auto\""));
            }
            // Only the CPU caches pictures of groups.
            let mut written = spec.population.iter().flat_map(PopulationSpec::families);
            let apart = spec.draw.technique == Technique::Tiled && written.any(|family| family.has_groups());
            let ungrouped = if apart { ", groups of blades blade by blade" } else { "" };
            let remark = format!("drawn by {}{ungrouped}", device.name());
            Ok((Some(device), Some(remark)))
        }
        (Err(problem), Backend::Auto) => Ok((None, Some(format!("drawn by the CPU: {problem}")))),
        (Err(problem), _) => {
            Err(SpecError::new("backend", problem.to_string(), "write backend = \"cpu\" or \"auto\""))
        }
    }
}

/// Returns whether storage, technique and depth order of a scene allow device-resident populations.
fn could_live_on_device(spec: &SceneSpec) -> bool {
    spec.storage == Storage::Columns
        && !matches!(spec.draw.technique, Technique::Each | Technique::Batched)
        && spec.draw.depth_order != DepthOrder::All
}

/// Returns the indices of populations that stay on the CPU although a device draws.
fn stays(
    spec: &SceneSpec,
    seasonal: &[(ParticleSpec, LookSpec)],
    world: &World,
    assets: &Assets,
) -> Result<Vec<usize>, SpecError> {
    if !lives_on_device(spec) {
        return Ok((0..seasonal.len()).collect());
    }
    let mut stays = Vec::new();
    let reasons = registry::why_not_on_device(&spec.population, seasonal, world, assets);
    for ((nth, population), why) in spec.population.iter().enumerate().zip(reasons) {
        let Some(why) = why else { continue };
        if spec.residence == Residence::Gpu && registry::of(population).runs_on_device() {
            let problem = format!("is \"gpu\", but '{}' stays on the CPU: {why}", population.name);
            return Err(SpecError::new("residence", problem, "write residence = \"auto\""));
        }
        stays.push(nth);
    }
    Ok(stays)
}

fn lives_on_device(spec: &SceneSpec) -> bool {
    spec.residence != Residence::Cpu && could_live_on_device(spec)
}

/// A scene divided into the inputs of a draw list and everything that draws it.
struct Drawing<'a> {
    drawn: Drawn<'a>,
    scratch: &'a mut ListScratch,
    renderer: &'a mut Renderer,
    image: &'a mut Image,
    device: Option<&'a mut Device>,
}

/// The inputs of a draw list.
struct Drawn<'a> {
    populations: &'a mut [Population],
    ended: &'a mut Vec<SceneError>,
    set: &'a ParticleSet,
    decor: &'a Decor,
    spec: &'a SceneSpec,
    view: &'a View,
    backdrop: &'a BackdropSpec,
    lag: f32,
    time: f64,
}

impl<'a> Drawn<'a> {
    fn list(self, scratch: &'a mut ListScratch, meter: &mut Meter) -> DrawList<'a> {
        let (context, sun) = (DrawContext { set: self.set, lag: self.lag }, self.spec.sun.as_ref());
        for population in &mut *self.populations {
            population.attempt(self.ended, |population| {
                population.prepare(context, self.view, sun, meter);
                population.elements.instances(context).map(drop)
            });
        }
        let populations = &*self.populations;
        let elements = populations.iter().flat_map(|population| {
            // Trails first, so that elements are drawn in front of them.
            let trails =
                population.trail.as_ref().and_then(|look| Some((population.elements.trails(context)?, look)));
            // Those that cannot be drawn have ended above.
            let instances = population.elements.instances(context).unwrap_or_default().into_inner();
            let look = |kind: usize| match kind.checked_sub(1) {
                None => &population.look,
                Some(further) => population.kinds.get(further).unwrap_or(&population.look),
            };
            let dressed = instances.into_iter().map(move |(instances, kind)| (instances, look(kind)));
            trails.into_iter().chain(dressed)
        });
        let around = Surroundings::new(self.backdrop)
            .lights(&self.spec.light)
            .sun(sun)
            .time((self.time - f64::from(self.lag)) as f32);
        scratch.list(elements.chain(self.decor.drawn()), &self.spec.draw.list(), self.view, &around, meter)
    }
}
