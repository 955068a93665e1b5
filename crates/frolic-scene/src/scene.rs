//! A scene that runs: state, made from a [`SceneSpec`].

use frolic_core::backend::all_that_stay;
use frolic_core::{
    Clock, Counter, Fixtures, Forms, Frame, Keeper, Lever, Lowered, Meter, ParticleSet, ParticleSpec,
    Particles, Path, PlacedColumns, PlacedRow, SpecError, Storage, Threads, World, random,
};
use frolic_diagnostics::{Mark, Plan, Show};
use frolic_draw::{
    BackdropSpec, CameraSpec, DepthOrder, DrawList, Image, ImageSize, Instances, Look, LookSpec, Mesh, Part,
    Renderer, SunSpec, Technique, Trails, View, chunk_parts,
};
use frolic_list::{ListScratch, Surroundings};

use smallvec::SmallVec;

use crate::device::{Device, Living};
use crate::error::SceneError;
use crate::grove::Grove;
use crate::land::Land;
use crate::meadow::Meadow;
use crate::props::Props;
use crate::spec::{Backend, Residence, SceneSpec};

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
    /// Those that live with the processor: their events start one another's elements.
    set: ParticleSet,
    props: Props,
    clock: Clock,
    keeper: Option<Keeper>,
    travel: Option<Path>,
    /// How long before the state of the populations the picture is taken, s.
    behind: f32,
    time: f64,
    /// What each collector of the world has picked up since the start.
    caught: Vec<u64>,
    scratch: ListScratch,
    renderer: Renderer,
    image: Image,
    device: Option<Device>,
    remark: Option<String>,
    /// What went wrong on the device while stepping; told when it is asked to draw.
    fault: Option<String>,
}

#[derive(Debug)]
struct Population {
    elements: Elements,
    look: Look,
    /// Looks of the second kind of element and those after it.
    kinds: Vec<Look>,
    /// Ribbons behind its elements, worked out when they are drawn.
    trail: Option<(Trails, Look)>,
}

impl Population {
    /// Works out what is only known when it is drawn, `behind` seconds before the last step: trails, and what of a grove is in view.
    fn prepare(
        &mut self,
        set: &ParticleSet,
        behind: f32,
        view: &View,
        sun: Option<&SunSpec>,
        meter: &mut Meter,
    ) {
        if let Elements::Growing(grove) = &mut self.elements {
            grove.prepare(view, sun, meter);
        }
        let (Elements::Particles(member), Some((trails, look))) = (&self.elements, &mut self.trail) else {
            return;
        };
        let particles = &set.members()[*member];
        if let (Some(trail), Some(taper)) = (particles.trail(), look.taper()) {
            trails.take(particles.columns(), trail, behind, taper);
        }
    }
}

/// Boxes around the chunks of fixtures.
#[derive(Debug)]
struct Chunks {
    parts: Vec<Part>,
    /// How far what is drawn of an element reaches from its place, the wind's part included, m.
    margin: f32,
}

impl Chunks {
    fn new(fixtures: &Fixtures, margin: f32) -> Self {
        let mut chunks = Self { parts: Vec::new(), margin };
        chunks.follow(fixtures);
        chunks
    }

    /// Where they are now.
    fn follow(&mut self, fixtures: &Fixtures) {
        self.parts.clear();
        self.parts.extend(chunk_parts(fixtures.columns().position(), self.margin));
    }
}

#[derive(Debug)]
enum Elements {
    /// A member of the scene's set.
    Particles(usize),
    /// With boxes around their chunks, as they stay where they are.
    Fixtures(Box<Fixtures>, Chunks),
    /// Blades, square by square.
    Blades(Box<Meadow>),
    /// What grows, cluster by cluster.
    Growing(Box<Grove>),
    /// Particles on a graphics device.
    Living(Box<Living>),
}

impl Elements {
    /// Elements; none of those that live on a device.
    fn len(&self, set: &ParticleSet) -> usize {
        match self {
            Self::Particles(member) => set.members()[*member].len(),
            Self::Fixtures(fixtures, _) => fixtures.len(),
            Self::Blades(meadow) => meadow.blades.len(),
            Self::Growing(grove) => grove.growing.len(),
            Self::Living(_) => 0,
        }
    }

    /// Its instances, each with which kind it is of: of one that lives on a device several, if it is very large.
    fn instances<'a>(
        &'a self,
        set: &'a ParticleSet,
        behind: f32,
        kinds: usize,
    ) -> SmallVec<[(Instances<'a>, usize); 1]> {
        match self {
            Self::Living(living) => {
                let mut all: SmallVec<[(Instances<'a>, usize); 1]> = SmallVec::new();
                living.instances(behind).for_each(|instances| all.push((instances, 0)));
                all
            }
            Self::Blades(meadow) => {
                (0..kinds).filter_map(|kind| Some((meadow.instances(kind, behind).ok()?, kind))).collect()
            }
            // Columns of one family are of one length, so none is refused.
            _ => self.columns(set, behind).into_iter().map(|instances| (instances, 0)).collect(),
        }
    }

    fn columns<'a>(&'a self, set: &'a ParticleSet, behind: f32) -> Result<Instances<'a>, SpecError> {
        match self {
            Self::Particles(member) => Ok(Instances::of(set.members()[*member].columns(), behind)),
            Self::Growing(grove) => grove.instances(),
            Self::Living(_) | Self::Blades(_) => Instances::at([&[]; 3]),
            Self::Fixtures(fixtures, chunks) => {
                let columns = fixtures.columns();
                let instances = Instances::at(columns.position())?
                    .sized(columns.size())?
                    .turned(columns.turn(), columns.tilt())?
                    .keyed(columns.id())?
                    .in_parts(&chunks.parts)?;
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
        let given = spec;
        let spec = &spec.in_weather();
        let forms = crate::forms::load(spec)?;
        let world = spec.world.build_with(&forms).map_err(|error| error.under("world"))?;
        let mut props = Props::new(spec, &world)?;
        props.lands = Land::all(spec, &forms)?;
        let (mut device, remark) = open(spec)?;
        let mut set = ParticleSet::default();
        let seasonal: Vec<_> = spec.population.iter().map(|it| it.in_season(spec.season)).collect();
        let stays = stays(spec, &seasonal, &world, &forms)?;
        let mut populations = Vec::with_capacity(spec.population.len());
        for ((nth, population), (particles, dressed)) in spec.population.iter().enumerate().zip(&seasonal) {
            // Populations of one scene must not draw the same random numbers.
            let seed = spec.seed.wrapping_mul(0x9e37_79b9).wrapping_add(nth as u32);
            let look = dressed
                .build_with(&props.library)
                .map_err(|error| error.under(&format!("population.{nth}.look")))?;
            let kinds = population.kind.iter().enumerate().map(|(kind, look)| {
                let under = |error: SpecError| error.under(&format!("population.{nth}.kind.{kind}"));
                look.build_with(&props.library).map_err(under)
            });
            let kinds = kinds.collect::<Result<Vec<_>, _>>()?;
            let there = device.as_mut().filter(|_| !stays.contains(&nth));
            let elements = match (&population.growing, &population.blades, &population.fixed) {
                (Some(growing), ..) => {
                    let ramp = &dressed.size_over_age;
                    Grove::new(growing, population.count, particles.size, seed, &forms, (&look, ramp))
                        .map(|grove| Elements::Growing(Box::new(grove)))
                }
                (None, Some(blades), _) => {
                    let looks: Vec<&Look> = std::iter::once(&look).chain(&kinds).collect();
                    Meadow::new(blades, population.count, particles.size, seed, &forms, &looks)
                        .map(|meadow| Elements::Blades(Box::new(meadow)))
                }
                (None, None, Some(fixed)) => {
                    let (count, size) = (population.count, particles.size);
                    Fixtures::with_forms(fixed, count, size, seed, &forms).map(|fixtures| {
                        let give = fixed.sway.map_or(0.0, |sway| sway.give * 40.0);
                        let margin = look.reach_of(size.max, fixtures.curves()) + give;
                        let chunks = Chunks::new(&fixtures, margin);
                        Elements::Fixtures(Box::new(fixtures), chunks)
                    })
                }
                (None, None, None) => match there {
                    Some(device) => device
                        .population(&population.name, particles, seed, &forms)
                        .map(|living| Elements::Living(Box::new(living))),
                    None => set
                        .add_with(&population.name, particles, seed, spec.storage, &forms)
                        .map(Elements::Particles),
                },
            };
            let elements = elements.map_err(|error| error.under(&population.name))?;
            let trail = match &population.trail {
                Some(trail) => {
                    let look = trail.look.build_with(&props.library);
                    let look = look.map_err(|error| error.under(&format!("population.{nth}.trail.look")))?;
                    Some((Trails::default(), look))
                }
                None => None,
            };
            populations.push(Population { elements, look, kinds, trail });
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
            props,
            clock: Clock::new(spec.clock),
            keeper: spec.keeper.as_ref().map(Keeper::new).transpose()?,
            behind: 0.0,
            time: 0.0,
            caught: vec![0; spec.world.collector.len()],
            scratch: ListScratch::default(),
            renderer: Renderer::new(),
            image: Image::new(spec.draw.size),
            device,
            remark,
            fault: None,
            spec: given.clone(),
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
        let step = self.clock.step();
        self.step(step, tick.steps, meter);
        self.behind = (1.0 - tick.alpha) * step;
        meter.add(Counter::StepsDropped, u64::from(tick.dropped));
    }

    /// Tells the scene's keeper how long a frame took, from beginning to end; what it changed for that, if the scene has one and it did.
    pub fn keep_budget(&mut self, frame: &Frame) -> Option<Lowered> {
        let keeper = self.keeper.as_mut()?;
        let change = keeper.after(frame.total());
        let [detail, density, rate] =
            [Lever::Detail, Lever::Density, Lever::Rate].map(|lever| keeper.share(lever));
        for population in &mut self.populations {
            population.look.ease(detail, density);
            population.kinds.iter_mut().for_each(|look| look.ease(detail, density));
            if let Some((_, look)) = &mut population.trail {
                look.ease(detail, density);
            }
        }
        self.set.members_mut().iter_mut().for_each(|member| member.thin(density));
        self.clock.set_rate((self.spec.clock.rate * rate).max(1.0));
        change
    }

    /// What holds its frames under a time, if anything.
    pub fn keeper(&self) -> Option<&Keeper> {
        self.keeper.as_ref()
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
            let Self { populations, set, world, device, fault, caught, time, travel, spec, view, .. } = self;
            let camera = camera_at(spec, travel.as_ref(), *time + f64::from(dt) * f64::from(steps));
            let [x, _, z] = camera.target;
            let seen_from = camera.view(view.size()).unwrap_or(*view);
            for population in populations.iter_mut() {
                match &mut population.elements {
                    Elements::Particles(_) => {}
                    Elements::Fixtures(fixtures, chunks) => {
                        if fixtures.recentre([x, z]) {
                            chunks.follow(fixtures);
                        }
                    }
                    Elements::Blades(_) | Elements::Growing(_) | Elements::Living(_) => {}
                }
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
                    match &mut population.elements {
                        Elements::Fixtures(fixtures, chunks) => {
                            fixtures.step(world, dt, steps, meter);
                            if fixtures.moves() {
                                chunks.follow(fixtures);
                            }
                        }
                        Elements::Blades(meadow) => {
                            meadow.group(grouped);
                            let shining = (spec.sun.as_ref(), &spec.light[..]);
                            meadow.step(world, &seen_from, shining, dt, steps, meter);
                            meadow.hand_over(set, meter);
                        }
                        Elements::Growing(grove) => {
                            grove.step(&seen_from, spec.sun.as_ref(), dt, steps, meter);
                        }
                        Elements::Particles(_) | Elements::Living(_) => {}
                    }
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
        self.behind = 0.0;
        self.time += f64::from(dt) * f64::from(steps);
        self.props.tell(self.time, &self.caught);
        self.props.follow(&self.world);
        if self.travel.is_some()
            && let Ok(view) = camera_at(&self.spec, self.travel.as_ref(), self.time).view(self.spec.draw.size)
        {
            self.view = view;
        }
        meter.add(Counter::Steps, u64::from(steps));
        if let Some(keeper) = &self.keeper {
            let percent = |lever: Lever| (keeper.share(lever) * 100.0).round() as u64;
            for (counter, lever) in [
                (Counter::DetailPercent, Lever::Detail),
                (Counter::DensityPercent, Lever::Density),
                (Counter::RatePercent, Lever::Rate),
            ] {
                meter.forget(counter);
                meter.add(counter, percent(lever));
            }
        }
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
        self.view = camera_at(&self.spec, self.travel.as_ref(), self.time).view(size)?;
        if size != self.spec.draw.size {
            self.spec.draw.size = size;
            let mut props = Props::new(&self.spec, &self.world)?;
            std::mem::swap(&mut props.lands, &mut self.props.lands);
            self.props = props;
            self.props.tell(self.time, &self.caught);
        }
        Ok(())
    }

    /// A population's state by name: the columns that it is drawn from. None of those that live on a device.
    pub fn particles(&self, name: &str) -> Option<&Particles> {
        self.set.get(name)
    }

    /// Populations that live with the processor, to ask their emitters for something.
    pub fn particles_mut(&mut self, name: &str) -> Option<&mut Particles> {
        self.set.get_mut(name)
    }

    /// Where every element of a population is as the scene stands, and the mesh that it is drawn as (of ribbons, a blade; of flat shapes, a small box):
    /// what an export writes. None where there is no such population, or it lives on a device.
    pub fn snapshot(&mut self, name: &str) -> Option<(PlacedColumns, Mesh)> {
        let nth = self.spec.population.iter().position(|population| population.name == name)?;
        let Self { populations, set, .. } = self;
        let population = &mut populations[nth];
        let placed = match &mut population.elements {
            Elements::Particles(member) => {
                let columns = set.members()[*member].columns();
                let ([x, y, z], size) = (columns.position(), columns.size());
                let row = |n: usize| {
                    let id = columns.key()[n];
                    let tint = random::lot(id)[1];
                    PlacedRow { px: x[n], py: y[n], pz: z[n], size: size[n], tint, id, ..PlacedRow::UPRIGHT }
                };
                PlacedColumns::from_rows((0..columns.len()).map(row))
            }
            Elements::Fixtures(fixtures, _) => {
                PlacedColumns::from_rows((0..fixtures.len()).filter_map(|n| {
                    let row = fixtures.columns().row(n)?;
                    let (id, tint) = (row.id, random::lot(row.id)[1]);
                    let (turn, tilt, size) = (row.turn, row.tilt, row.size);
                    let [px, py, pz] = [row.px, row.py, row.pz];
                    Some(PlacedRow { px, py, pz, turn, tilt, size, tint, id, ..PlacedRow::UPRIGHT })
                }))
            }
            Elements::Blades(meadow) => meadow.placed(),
            Elements::Growing(grove) => grove.placed(),
            Elements::Living(_) => return None,
        };
        Some((placed, population.look.model()))
    }

    /// What elements feel and meet.
    pub fn world(&self) -> &World {
        &self.world
    }

    /// What elements feel and meet, to dig in or to put collectors elsewhere.
    pub fn world_mut(&mut self) -> &mut World {
        &mut self.world
    }

    /// How many elements each collector of the world has picked up since the start, from populations that live with the processor.
    pub fn caught(&self) -> &[u64] {
        &self.caught
    }

    /// Elements alive in all populations; of those that live on a device, as was heard last.
    pub fn alive(&self) -> usize {
        let here: usize = self.populations.iter().map(|population| population.elements.len(&self.set)).sum();
        here + self.device.as_ref().map_or(0, Device::alive)
    }

    /// The draw list of the scene as it stands, for a renderer of one's own.
    pub fn draw_list(&mut self, meter: &mut Meter) -> DrawList<'_> {
        let Self { scratch, populations, set, props, spec, view, backdrop, behind, time, .. } = self;
        Drawn { populations, set, props, spec, view, backdrop, behind: *behind, time: *time }
            .list(scratch, meter)
    }

    /// The view it is seen through.
    pub fn view(&self) -> &View {
        &self.view
    }

    /// What is to be said of the choice of backend, if anything: that there is no device, and why; or which one draws.
    pub fn remark(&self) -> Option<&str> {
        self.remark.as_deref()
    }

    /// Whether a graphics device draws it.
    pub fn is_on_device(&self) -> bool {
        self.device.is_some()
    }

    /// Draws the scene as it stands. The picture stays the scene's own and is drawn over by the next.
    ///
    /// # Errors
    /// When a graphics device draws it and was lost, or is too small for it. The CPU always draws.
    pub fn draw(&mut self, meter: &mut Meter) -> Result<&Image, SceneError> {
        self.show(Show::Picture, meter)
    }

    /// Draws the scene, or a diagnostic of how it is drawn, as [`Scene::draw`].
    ///
    /// # Errors
    /// As [`Scene::draw`]; and a diagnostic of a scene that a graphics device draws.
    pub fn show(&mut self, show: Show, meter: &mut Meter) -> Result<&Image, SceneError> {
        match show {
            Show::Placement => return self.show_placement(),
            Show::Wind => return Ok(self.show_wind()),
            _ => {}
        }
        if self.device.is_some() {
            if show != Show::Picture {
                let name = show.name();
                return Err(SceneError::Device(format!(
                    "{name} is painted by the CPU alone; leave the backend to it"
                )));
            }
            self.on_device(Take::Picture, meter)?;
            return Ok(&self.image);
        }
        self.paint(meter, |renderer, list, view, backdrop, image, meter| {
            show.paint(renderer, list, view, backdrop, image, meter);
        });
        Ok(&self.image)
    }

    /// Of the population that a profile lets climb, if it stands, or else of the first that does.
    fn show_placement(&mut self) -> Result<&Image, SceneError> {
        let Self { populations, spec, image, view, .. } = self;
        let climbing = spec.climbing().map(|population| population.name.as_str());
        let stands = |nth: &usize| spec.population[*nth].stands().is_some();
        let standing = (0..spec.population.len()).filter(stands);
        let Some(nth) = standing.min_by_key(|&nth| Some(spec.population[nth].name.as_str()) != climbing)
        else {
            let problem = "nothing in it is placed: particles are where they are at the moment";
            return Err(SpecError::new(
                "population",
                problem,
                "show the picture, or a scene with blades or fixtures",
            )
            .into());
        };
        let mut marks = Vec::new();
        let mut terrain = None;
        let mut extent = None;
        match &populations[nth].elements {
            Elements::Blades(meadow) => {
                meadow.marks(&mut marks);
                terrain = Some(meadow.blades.placement());
                extent = meadow.blades.spec().endless.is_none().then(|| meadow.blades.placement().extent());
            }
            Elements::Fixtures(fixtures, _) => {
                let columns = fixtures.columns();
                marks.extend((0..columns.len()).map(|n| {
                    let (place, tint) = ([columns.px()[n], columns.pz()[n]], 0.5);
                    Mark { place, turn: columns.turn()[n], radius: columns.size()[n], tint, kind: 0 }
                }));
            }
            Elements::Growing(grove) => grove.marks(&mut marks),
            Elements::Particles(_) | Elements::Living(_) => {}
        }
        let [low, high] = extent.unwrap_or_else(|| around(&marks));
        let plan = Plan::of(low, high, view.size());
        let height =
            terrain.map(|placement| move |x: f32, z: f32| placement.ground(x, z).map(|footing| footing.y));
        let height = height.as_ref().map(|height| height as &dyn Fn(f32, f32) -> Option<f32>);
        plan.placement(&spec.population[nth].name, &marks, height, image);
        Ok(image)
    }

    /// Where the camera looks, as far around as it is away from there.
    fn show_wind(&mut self) -> &Image {
        let camera = camera_at(&self.spec, self.travel.as_ref(), self.time);
        let ([ex, ey, ez], [x, y, z]) = (camera.position, camera.target);
        let reach = ((ex - x).powi(2) + (ey - y).powi(2) + (ez - z).powi(2)).sqrt().clamp(1.0, 1e5);
        let plan = Plan::of([x - reach, z - reach], [x + reach, z + reach], self.view.size());
        let time = self.time - f64::from(self.behind);
        plan.wind(&self.world, time, y, &mut self.image);
        &self.image
    }

    /// Makes the draw list and has the processor paint it, on the scene's threads.
    fn paint(
        &mut self,
        meter: &mut Meter,
        paint: impl FnOnce(&mut Renderer, &DrawList<'_>, &View, &BackdropSpec, &mut Image, &mut Meter) + Send,
    ) {
        let threads = self.threads.clone();
        threads.run(|| {
            let Self {
                scratch,
                populations,
                set,
                props,
                spec,
                view,
                backdrop,
                behind,
                time,
                renderer,
                image,
                ..
            } = self;
            let sun = spec.sun.as_ref();
            populations.iter_mut().for_each(|population| population.prepare(set, *behind, view, sun, meter));
            let drawn = Drawn { populations, set, props, spec, view, backdrop, behind: *behind, time: *time };
            let list = drawn.list(scratch, meter);
            paint(renderer, &list, view, backdrop, image, meter);
        });
    }

    /// Draws the scene without sky, ground and water, as straight (not premultiplied) RGBA.
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
        Ok(&self.image)
    }

    /// Draws the scene as [`Scene::draw`], but leaves the picture where it was drawn: what a measurement wants, which reads none back. It
    /// waits until the device is done.
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
            return Err(SceneError::Device(fault.clone()));
        }
        let Self {
            scratch, populations, set, props, spec, view, backdrop, behind, time, image, device, ..
        } = self;
        let Some(device) = device else { return Ok(()) };
        device.record(meter);
        meter.add(Counter::NewsAge, device.news_age());
        let sun = spec.sun.as_ref();
        populations.iter_mut().for_each(|population| population.prepare(set, *behind, view, sun, meter));
        let done = {
            let populations = &*populations;
            let drawn = Drawn { populations, set, props, spec, view, backdrop, behind: *behind, time: *time };
            let list = drawn.list(scratch, meter);
            let (backdrop, image) = match take {
                Take::Picture => (Some(&*backdrop), Some(image)),
                Take::SeeThrough => (None, Some(image)),
                Take::Nothing => (Some(&*backdrop), None),
            };
            device.draw(&list, view, backdrop, image, meter)
        };
        device.ask();
        done.map_err(|problem| {
            self.fault = Some(problem.clone());
            SceneError::Device(problem)
        })
    }

    /// Waits until the counts of populations that live on a device are those of now, and tells the meter. It stalls: for the end of a run.
    ///
    /// # Errors
    /// When the device was lost.
    pub fn settle(&mut self, meter: &mut Meter) -> Result<(), SceneError> {
        let Self { device: Some(device), caught, .. } = self else { return Ok(()) };
        device.settle(meter).map_err(SceneError::Device)?;
        device.take_caught(caught);
        self.props.tell(self.time, &self.caught);
        Ok(())
    }
}

/// The rectangle around marks; some ground where there are none.
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

/// The camera as it has travelled by a time, s.
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

/// What is wanted of a picture that a device draws.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Take {
    Picture,
    SeeThrough,
    Nothing,
}

/// The device that a scene asks for, and what is to be said of the choice.
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
            // Pictures of groups are the processor's.
            let mut blades = spec.population.iter().filter_map(|population| population.blades.as_ref());
            let apart = spec.draw.technique == Technique::Tiled && blades.any(|it| it.groups.is_some());
            let ungrouped = if apart { ", groups of blades blade by blade" } else { "" };
            let remark = format!("drawn by {}{ungrouped}", device.name());
            Ok((Some(device), Some(remark)))
        }
        (Err(problem), Backend::Auto) => Ok((None, Some(format!("drawn by the CPU: {problem}")))),
        (Err(problem), _) => Err(SpecError::new("backend", problem, "write backend = \"cpu\" or \"auto\"")),
    }
}

/// Whether what a scene asks for can be done where only the device knows its elements.
fn could_live_on_device(spec: &SceneSpec) -> bool {
    spec.storage == Storage::Columns
        && !matches!(spec.draw.technique, Technique::Each | Technique::Batched)
        && spec.draw.depth_order != DepthOrder::All
}

/// Populations that live with the processor though a device draws, by their places.
fn stays(
    spec: &SceneSpec,
    seasonal: &[(ParticleSpec, LookSpec)],
    world: &World,
    forms: &Forms,
) -> Result<Vec<usize>, SpecError> {
    if !lives_on_device(spec) {
        return Ok((0..seasonal.len()).collect());
    }
    let free = |nth: &usize| spec.population[*nth].stands().is_none();
    let moving: Vec<usize> = (0..seasonal.len()).filter(free).collect();
    let named: Vec<_> =
        moving.iter().map(|&nth| (spec.population[nth].name.as_str(), &seasonal[nth].0)).collect();
    let mut stays = Vec::new();
    for (&nth, why) in moving.iter().zip(all_that_stay(&named, world, forms)) {
        let Some(why) = why else { continue };
        if spec.residence == Residence::Gpu {
            let name = &spec.population[nth].name;
            let problem = format!("is \"gpu\", but '{name}' stays with the processor: {why}");
            return Err(SpecError::new("residence", problem, "write residence = \"auto\""));
        }
        stays.push(nth);
    }
    Ok(stays)
}

fn lives_on_device(spec: &SceneSpec) -> bool {
    spec.residence != Residence::Cpu && could_live_on_device(spec)
}

/// What a draw list is made of.
struct Drawn<'a> {
    populations: &'a [Population],
    set: &'a ParticleSet,
    props: &'a Props,
    spec: &'a SceneSpec,
    view: &'a View,
    backdrop: &'a BackdropSpec,
    behind: f32,
    time: f64,
}

impl<'a> Drawn<'a> {
    fn list(&self, scratch: &'a mut ListScratch, meter: &mut Meter) -> DrawList<'a> {
        let elements = self.populations.iter().flat_map(|population| {
            // Trails first: what leaves them is in front.
            let trails = population.trail.as_ref().and_then(|(trails, look)| {
                let instances = match &population.elements {
                    Elements::Living(living) => living.trails(self.behind),
                    _ => trails.instances().ok(),
                };
                Some((instances?, look))
            });
            let kinds = population.kinds.len() + 1;
            let instances = population.elements.instances(self.set, self.behind, kinds);
            let look = |kind: usize| if kind == 0 { &population.look } else { &population.kinds[kind - 1] };
            let dressed = instances.into_iter().map(move |(instances, kind)| (instances, look(kind)));
            trails.into_iter().chain(dressed)
        });
        let around = Surroundings::new(self.backdrop)
            .lights(&self.spec.light)
            .sun(self.spec.sun.as_ref())
            .time((self.time - f64::from(self.behind)) as f32);
        scratch.list(elements.chain(self.props.drawn()), &self.spec.draw.list(), self.view, &around, meter)
    }
}
