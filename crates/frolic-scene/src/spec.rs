//! A scene as plain data: the keys of a scene file.

use std::collections::HashSet;
use std::path::PathBuf;

use frolic_core::{
    BladeSpec, ClockSpec, EmitterSpec, EventSpec, FieldSpec, FixtureSpec, GrowSpec, KeeperSpec, MOST_KINDS,
    MotionSpec, Order, ParticleSpec, PathSpec, Ramp, Span, SpecError, Storage, TrailSpec, Weather, WorldSpec,
    at_most, check_events, within,
};
use frolic_draw::{
    BackdropSpec, CameraSpec, Colour, DepthOrder, GroundSpec, ImageSize, LightSpec, LookSpec, RibbonSpec,
    Shape, SkySpec, SunSpec, Technique, WaterSpec,
};
use frolic_list::ListSpec;
use serde::{Deserialize, Serialize};

use crate::families;
use crate::forms::FormSpec;
use crate::land::LandPart;
use crate::parts::{MeshSpec, SpriteSpec, StoneSpec, TextSpec, TextureSpec, TilesSpec};

/// The version of the scene format that this library reads and writes.
pub const FORMAT_VERSION: u32 = 1;

/// Everything about a scene. `docs/scene-format.md` is the same for readers of files.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct SceneSpec {
    /// Version of the format: 1.
    pub frolic: u32,
    /// One line about the scene.
    #[serde(default)]
    pub title: String,
    /// Key of all random numbers. Default 1.
    #[serde(default = "one")]
    pub seed: u32,
    /// The air, by name: in place of the world's wind and gusts (but from where that wind comes), and blades to match. Default as the world says.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub weather: Option<Weather>,
    /// Time of the year, 0 to 1, for populations that change with it. Default 0.
    #[serde(default)]
    pub season: f32,
    /// How elements are held. Default columns.
    #[serde(default)]
    pub storage: Storage,
    /// Threads to use, 0 (all cores) to 1024. Default 0.
    #[serde(default)]
    pub threads: u32,
    /// Who draws. Default the processor.
    #[serde(default)]
    pub backend: Backend,
    /// Where particles live and are stepped. Default where they are drawn.
    #[serde(default)]
    pub residence: Residence,
    /// How time advances.
    #[serde(default)]
    pub clock: ClockSpec,
    /// Lowers what may be lowered where frames take too long. Default none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub keeper: Option<KeeperSpec>,
    /// Where it is seen from.
    #[serde(default)]
    pub camera: CameraSpec,
    /// The way that the camera goes, with what it looks at. Default it stays.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub travel: Option<PathSpec>,
    /// What picture is taken, and how.
    #[serde(default)]
    pub draw: DrawSpec,
    /// What a profile varies.
    #[serde(default)]
    pub profile: ProfileSpec,
    /// The sky.
    #[serde(default)]
    pub sky: SkySpec,
    /// The ground. Default none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ground: Option<GroundSpec>,
    /// The water. Default none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub water: Option<WaterSpec>,
    /// Gravity, wind, fields, obstacles, collectors.
    #[serde(default)]
    pub world: WorldSpec,
    /// Meshes, distance grids and pictures that emitters, obstacles and fields name, at most 256.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub form: Vec<FormSpec>,
    /// Lights, at most 16. Default none.
    #[serde(default)]
    pub light: Vec<LightSpec>,
    /// The sun. Default none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sun: Option<SunSpec>,
    /// Textures, at most 256.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub texture: Vec<TextureSpec>,
    /// Meshes, at most 256.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub mesh: Vec<MeshSpec>,
    /// Sprites, at most 65536.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub sprite: Vec<SpriteSpec>,
    /// Tile maps, at most 256.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub tiles: Vec<TilesSpec>,
    /// Masks of the world that are shown as stone, at most 16.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub stone: Vec<StoneSpec>,
    /// Ground with a shape, at most 16.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub land: Vec<LandPart>,
    /// Texts, at most 4096.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub text: Vec<TextSpec>,
    /// Populations, drawn in this order, at most 256.
    #[serde(default)]
    pub population: Vec<PopulationSpec>,
    /// Where its files are.
    #[serde(skip)]
    pub folder: Folder,
}

/// Who draws a scene.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Backend {
    /// The processor.
    #[default]
    Cpu,
    /// The graphics device; an error where there is none.
    Gpu,
    /// The graphics device where there is one, else the processor; [`Scene::remark`](crate::Scene::remark) says which and why.
    Auto,
}

impl std::fmt::Display for Backend {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(match self {
            Self::Cpu => "cpu",
            Self::Gpu => "gpu",
            Self::Auto => "auto",
        })
    }
}

impl std::str::FromStr for Backend {
    type Err = SpecError;

    fn from_str(text: &str) -> Result<Self, SpecError> {
        match text {
            "cpu" => Ok(Self::Cpu),
            "gpu" => Ok(Self::Gpu),
            "auto" => Ok(Self::Auto),
            _ => Err(SpecError::new("backend", format!("'{text}' is none"), "write cpu, gpu or auto")),
        }
    }
}

/// Where particles live and are stepped.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Residence {
    /// On the device where it draws and the technique allows, else with the processor.
    #[default]
    Auto,
    /// With the processor; what the device draws is uploaded each frame.
    Cpu,
    /// On the device; an error where that cannot be.
    Gpu,
}

/// Where a scene's files are.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
#[non_exhaustive]
pub enum Folder {
    /// The folder that the program runs in.
    #[default]
    Here,
    /// This folder: that of the scene file.
    At(PathBuf),
    /// In the program, beside the shipped scene of this name.
    Shipped(&'static str),
}

fn one() -> u32 {
    1
}

/// What picture is taken, and how.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct DrawSpec {
    /// How elements become draw calls. Default instanced.
    pub technique: Technique,
    /// Which transparent elements are put into depth order with which. Default those of one population.
    pub depth_order: DepthOrder,
    /// Most instances of a draw call, 1 to 4294967295. Default 1048576.
    pub capacity: u32,
    /// Width and height, pixels, 1 to 16384. Default `[1280, 800]`.
    pub size: ImageSize,
    /// When the picture is taken, s after the start, 0 to 86400. Default 5.
    pub at: f32,
}

impl Default for DrawSpec {
    fn default() -> Self {
        let ListSpec { technique, depth_order, capacity, .. } = ListSpec::default();
        Self { technique, depth_order, capacity, size: ImageSize::default(), at: 5.0 }
    }
}

impl DrawSpec {
    /// How populations become a draw list.
    pub fn list(&self) -> ListSpec {
        ListSpec::new(self.technique).depth_order(self.depth_order).capacity(self.capacity)
    }
}

/// What a profile varies.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct ProfileSpec {
    /// The population whose count climbs. Default the first.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub population: Option<String>,
}

/// A named population and its look.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct PopulationSpec {
    /// Its name: letters, digits, `-` and `_`; not a name of another key of the scene.
    pub name: String,
    /// Most elements alive at once.
    pub count: u32,
    /// Age at death, s: one number or `[lowest, highest]`. Default `[1, 2]`.
    #[serde(default = "default_life")]
    pub life: Span,
    /// Radius at birth, m: one number or `[lowest, highest]`. Default 0.05.
    #[serde(default = "default_size")]
    pub size: Span,
    /// How it answers to the world.
    #[serde(default)]
    pub motion: MotionSpec,
    /// Where and when elements appear.
    #[serde(default)]
    pub emitter: Vec<EmitterSpec>,
    /// Fields that this population alone feels, beside the world's.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub field: Vec<FieldSpec>,
    /// What is noted of its elements, and what that starts.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub event: Vec<EventSpec>,
    /// Whether the order of its elements says anything. Default it is that of birth.
    #[serde(default)]
    pub order: Order,
    /// Ribbons along the last places of its elements. Default none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trail: Option<TrailLookSpec>,
    /// Where elements are put that stay there, instead of emitters. Default none: they are born, move and die.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fixed: Option<FixtureSpec>,
    /// Blades, rooted and bent by the wind, instead of emitters; its `size` is half the width of their roots. Default none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub blades: Option<BladeSpec>,
    /// Elements that grow in clusters, instead of emitters; `size` is their full size, and ramps over age run over growth. Default none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub growing: Option<GrowSpec>,
    /// How it changes with the time of the year. Default not at all.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seasons: Option<SeasonsSpec>,
    /// What elements look like.
    #[serde(default)]
    pub look: LookSpec,
    /// Looks of the second kind of element and those after it, where a placement chooses kinds, at most 15.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub kind: Vec<LookSpec>,
}

/// How a population changes with the time of the year: ramps over the scene's `season`.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct SeasonsSpec {
    /// Factor on the colour. Default white.
    pub colour: Ramp<Colour>,
    /// Factor on the size. Default 1.
    pub size: Ramp<f32>,
}

impl Default for SeasonsSpec {
    fn default() -> Self {
        Self { colour: Ramp::constant(Colour::WHITE), size: Ramp::constant(1.0) }
    }
}

/// Ribbons along the last places of a population's elements.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct TrailLookSpec {
    /// Places behind each element, 1 to 32. Default 8.
    #[serde(default = "default_places")]
    pub places: u32,
    /// Time from one to the next, s, 0.001 to 100. Default 0.05.
    #[serde(default = "default_every")]
    pub every: f32,
    /// What they look like: its shape is a ribbon. Each stretch narrows by the ribbon's `tip`; ramps over age run along the trail.
    pub look: LookSpec,
}

impl TrailLookSpec {
    /// So many places, so many seconds apart, drawn as this ribbon.
    pub fn new(places: u32, every: f32, look: LookSpec) -> Self {
        Self { places, every, look }
    }
}

fn default_places() -> u32 {
    TrailSpec::default().places
}

fn default_every() -> f32 {
    TrailSpec::default().every
}

fn default_life() -> Span {
    ParticleSpec::new(0).life
}

fn default_size() -> Span {
    ParticleSpec::new(0).size
}

impl PopulationSpec {
    /// A population by name, from what moves it and what it looks like. A trail is drawn as a ribbon in the colours of the look; set `trail` for
    /// another look.
    pub fn new(name: &str, particles: ParticleSpec, look: LookSpec) -> Self {
        let ParticleSpec { count, life, size, motion, emitters, fields, events, order, trail, .. } =
            particles;
        let trail = trail.map(|trail| {
            let mut ribbon = RibbonSpec::default();
            (ribbon.tip, ribbon.segments) = (0.9, 1);
            let mut drawn = look.clone();
            drawn.shape = Shape::Ribbon(ribbon);
            TrailLookSpec::new(trail.places, trail.every, drawn)
        });
        Self {
            name: name.to_owned(),
            count,
            life,
            size,
            motion,
            emitter: emitters,
            field: fields,
            event: events,
            order,
            trail,
            fixed: None,
            blades: None,
            growing: None,
            seasons: None,
            look,
            kind: Vec::new(),
        }
    }

    /// A population of `count` elements that stay where they are put.
    pub fn fixed(name: &str, fixtures: FixtureSpec, count: u32, size: Span, look: LookSpec) -> Self {
        let mut particles = ParticleSpec::new(count);
        particles.size = size;
        Self { fixed: Some(fixtures), ..Self::new(name, particles, look) }
    }

    /// A population of `count` blades whose roots have half widths of this range, m.
    pub fn blades(name: &str, blades: BladeSpec, count: u32, size: Span, look: LookSpec) -> Self {
        let mut particles = ParticleSpec::new(count);
        particles.size = size;
        Self { blades: Some(blades), ..Self::new(name, particles, look) }
    }

    /// A population of `count` elements that grow, of this full size, m.
    pub fn growing(name: &str, growing: GrowSpec, count: u32, size: Span, look: LookSpec) -> Self {
        let mut particles = ParticleSpec::new(count);
        particles.size = size;
        Self { growing: Some(growing), ..Self::new(name, particles, look) }
    }

    /// What moves it.
    pub fn particles(&self) -> ParticleSpec {
        let mut spec = ParticleSpec::new(self.count).life(self.life.min, self.life.max);
        spec.size = self.size;
        spec.motion = self.motion;
        spec.emitters.clone_from(&self.emitter);
        spec.fields.clone_from(&self.field);
        spec.events.clone_from(&self.event);
        spec.order = self.order;
        spec.trail = self.trail.as_ref().map(|trail| TrailSpec::new(trail.places, trail.every));
        spec
    }

    /// What moves it, and its look, at a time of the year.
    pub(crate) fn in_season(&self, season: f32) -> (ParticleSpec, LookSpec) {
        let (mut particles, mut look) = (self.particles(), self.look.clone());
        let Some(seasons) = &self.seasons else { return (particles, look) };
        let (colour, size) = (seasons.colour.at(season), seasons.size.at(season));
        let dyed = |&(at, own): &(f32, Colour)| {
            (at, Colour::new(own.r * colour.r, own.g * colour.g, own.b * colour.b))
        };
        look.colour_over_age = Ramp::new(look.colour_over_age.stops().iter().map(dyed));
        particles.size = Span::new(self.size.min * size, self.size.max * size);
        (particles, look)
    }

    /// Whether its elements are particles: they are emitted, move freely and retire.
    pub(crate) fn moves(&self) -> bool {
        families::all(self).next().is_none()
    }

    /// Time until it costs what it costs from then on, in seconds: of particles the longest life, of other families what they take to swing or grow.
    pub fn settle_seconds(&self) -> f32 {
        families::all(self).next().map_or(self.life.max, |family| family.settle_seconds())
    }

    /// Keys whose values are not the default, beside those of families.
    pub(crate) fn written(&self) -> Vec<&'static str> {
        let default = ParticleSpec::new(0);
        [
            ("life", self.life != default.life),
            ("motion", self.motion != default.motion),
            ("emitter", !self.emitter.is_empty()),
            ("field", !self.field.is_empty()),
            ("event", !self.event.is_empty()),
            ("order", self.order != default.order),
            ("trail", self.trail.is_some()),
            ("kind", !self.kind.is_empty()),
        ]
        .into_iter()
        .filter_map(|(key, written)| written.then_some(key))
        .collect()
    }

    /// The same population with `count` alive at once: streams and bursts grow in proportion, and streams are strong enough to
    /// keep that many alive.
    fn scaled(&self, count: u32) -> Self {
        let mut scaled = Self { count, ..self.clone() };
        let factor = f64::from(count) / f64::from(self.count.max(1));
        let kept: f64 = self.emitter.iter().map(|emitter| f64::from(emitter.rate)).sum::<f64>()
            * f64::from(self.life.mean())
            / f64::from(self.count.max(1));
        // A fifth more than dies, so that the population stands at its count (a gap is filled within a few births)
        // and not about it.
        let stronger = if kept > 0.0 { (1.2 / kept).max(1.0) } else { 1.0 };
        for emitter in &mut scaled.emitter {
            emitter.rate = (f64::from(emitter.rate) * factor * stronger).min(1e9) as f32;
            if let Some(burst) = &mut emitter.burst {
                burst.count = (f64::from(burst.count) * factor).round() as u32;
            }
        }
        families::all_mut(&mut scaled).for_each(|family| family.scale(factor));
        scaled
    }
}

/// Most lights and most populations of a scene.
const MOST_LIGHTS: usize = 16;
const MOST_POPULATIONS: usize = 256;

impl SceneSpec {
    /// An empty scene: a sky, a camera, nothing that moves.
    pub fn new(title: &str) -> Self {
        Self {
            frolic: FORMAT_VERSION,
            title: title.to_owned(),
            seed: 1,
            weather: None,
            season: 0.0,
            storage: Storage::default(),
            threads: 0,
            backend: Backend::default(),
            residence: Residence::default(),
            clock: ClockSpec::default(),
            keeper: None,
            camera: CameraSpec::default(),
            travel: None,
            draw: DrawSpec::default(),
            profile: ProfileSpec::default(),
            sky: SkySpec::default(),
            ground: None,
            water: None,
            world: WorldSpec::default(),
            form: Vec::new(),
            light: Vec::new(),
            sun: None,
            texture: Vec::new(),
            mesh: Vec::new(),
            sprite: Vec::new(),
            tiles: Vec::new(),
            stone: Vec::new(),
            land: Vec::new(),
            text: Vec::new(),
            population: Vec::new(),
            folder: Folder::default(),
        }
    }

    /// The same scene with one more population, drawn after those before.
    pub fn with(mut self, name: &str, particles: ParticleSpec, look: LookSpec) -> Self {
        self.population.push(PopulationSpec::new(name, particles, look));
        self
    }

    /// The same scene with one more population of elements that stay where they are put, or of blades.
    pub fn with_fixed(mut self, population: PopulationSpec) -> Self {
        self.population.push(population);
        self
    }

    /// The same with the wind, gusts and blades that its weather asks for.
    pub(crate) fn in_weather(&self) -> Self {
        let mut aired = self.clone();
        if let Some(weather) = self.weather {
            weather.blow(&mut aired.world);
            aired.population.iter_mut().flat_map(families::all_mut).for_each(|it| it.set_weather(weather));
        }
        aired
    }

    /// Sky, ground and water.
    pub fn backdrop(&self) -> BackdropSpec {
        let mut backdrop = BackdropSpec::default();
        backdrop.sky.clone_from(&self.sky);
        backdrop.ground.clone_from(&self.ground);
        backdrop.water.clone_from(&self.water);
        backdrop
    }

    /// Whether there is a population of this name whose elements are born, move and die.
    pub(crate) fn moves(&self, name: &str) -> bool {
        self.population.iter().any(|population| population.name == *name && population.moves())
    }

    /// Which population a profile lets climb.
    pub fn climbing(&self) -> Option<&PopulationSpec> {
        match &self.profile.population {
            Some(name) => self.population.iter().find(|population| population.name == *name),
            None => self.population.first(),
        }
    }

    /// The same scene with `count` elements of the climbing population, kept alive to within a few.
    pub fn scaled(&self, count: u32) -> Self {
        let mut scaled = self.clone();
        if let Some(name) = self.climbing().map(|population| population.name.clone()) {
            for population in scaled.population.iter_mut().filter(|population| population.name == name) {
                *population = population.scaled(count);
            }
        }
        scaled
    }

    /// Whether every value can be used.
    ///
    /// # Errors
    /// Names the first key that cannot, as a path from the top of the scene.
    pub fn check(&self) -> Result<(), SpecError> {
        if self.frolic != FORMAT_VERSION {
            let problem =
                format!("{} is a version of the format that this program does not read", self.frolic);
            return Err(SpecError::new("frolic", problem, format!("write {FORMAT_VERSION}")));
        }
        within("threads", self.threads as f32, 0.0, 1024.0, "threads")?;
        within("season", self.season, 0.0, 1.0, "")?;
        self.clock.check().map_err(|error| error.under("clock"))?;
        if let Some(keeper) = &self.keeper {
            keeper.check().map_err(|error| error.under("keeper"))?;
        }
        self.camera.view(self.draw.size).map_err(|error| error.under("camera"))?;
        if let Some(travel) = &self.travel {
            travel.check().map_err(|error| error.under("travel"))?;
        }
        within("draw.at", self.draw.at, 0.0, 86_400.0, "s")?;
        self.backdrop().check()?;
        self.world.check().map_err(|error| error.under("world"))?;
        at_most("light", self.light.len(), MOST_LIGHTS)?;
        at_most("population", self.population.len(), MOST_POPULATIONS)?;
        at_most("form", self.form.len(), MOST_POPULATIONS)?;
        for (nth, form) in self.form.iter().enumerate() {
            form.check().map_err(|error| error.under(&format!("form.{nth}")))?;
            if self.form[..nth].iter().any(|other| other.name == form.name) {
                let problem = format!("'{}' is there twice", form.name);
                return Err(SpecError::new(format!("form.{nth}.name"), problem, "write another name"));
            }
        }
        self.draw.list().check().map_err(|error| error.under("draw"))?;
        if let Some(sun) = &self.sun {
            sun.check().map_err(|error| error.under("sun"))?;
        }
        crate::parts::check(self)?;
        for (nth, light) in self.light.iter().enumerate() {
            light.check().map_err(|error| error.under(&format!("light.{nth}")))?;
        }
        at_most("land", self.land.len(), 16)?;
        for (nth, land) in self.land.iter().enumerate() {
            land.check(self).map_err(|error| error.under(&format!("land.{nth}")))?;
        }
        let mut names = HashSet::new();
        for (nth, population) in self.population.iter().enumerate() {
            let at = format!("population.{nth}");
            check_name(&population.name, &mut names).map_err(|error| error.under(&at))?;
            population.particles().check().map_err(|error| error.under(&at))?;
            families::check(population, self).map_err(|error| error.under(&at))?;
            at_most(&format!("{at}.kind"), population.kind.len(), MOST_KINDS - 1)?;
            for (nth, look) in population.kind.iter().enumerate() {
                look.check().map_err(|error| error.under(&format!("{at}.kind.{nth}")))?;
            }
            if let Some(trail) = &population.trail {
                trail.look.check().map_err(|error| error.under(&format!("{at}.trail.look")))?;
                if !matches!(trail.look.shape, Shape::Ribbon(_)) {
                    let key = format!("{at}.trail.look.shape");
                    return Err(SpecError::new(
                        key,
                        "is no ribbon",
                        "write shape = { ribbon = { tip = 0.9, segments = 1 } }",
                    ));
                }
            }
            if let Some(seasons) = &population.seasons {
                seasons.colour.check(&format!("{at}.seasons.colour"))?;
                seasons.size.check(&format!("{at}.seasons.size"))?;
            }
            population.look.check().map_err(|error| error.under(&format!("{at}.look")))?;
        }
        let events: Vec<(&str, &[EventSpec])> = self
            .population
            .iter()
            .map(|population| (population.name.as_str(), &population.event[..]))
            .collect();
        check_events(&events).map_err(|mut error| {
            // From the population's name to its place in the file.
            let nth = events.iter().position(|(name, _)| error.key.starts_with(&format!("{name}.")));
            if let (Some(nth), Some((_, rest))) = (nth, error.key.split_once('.')) {
                error.key = format!("population.{nth}.{rest}");
            }
            error
        })?;
        if let (Some(name), None) = (&self.profile.population, self.climbing()) {
            let names: Vec<&str> =
                self.population.iter().map(|population| population.name.as_str()).collect();
            let instead = format!("name one of: {}", names.join(", "));
            return Err(SpecError::new(
                "profile.population",
                format!("there is no population '{name}'"),
                instead,
            ));
        }
        Ok(())
    }
}

/// Keys of a scene. A population of such a name could not be told from them in a path.
pub(crate) const KEYS: [&str; 30] = [
    "frolic",
    "title",
    "seed",
    "weather",
    "season",
    "storage",
    "threads",
    "backend",
    "residence",
    "clock",
    "camera",
    "keeper",
    "travel",
    "draw",
    "profile",
    "sky",
    "ground",
    "water",
    "world",
    "form",
    "light",
    "sun",
    "texture",
    "mesh",
    "sprite",
    "tiles",
    "stone",
    "land",
    "text",
    "population",
];

fn check_name<'a>(name: &'a str, names: &mut HashSet<&'a str>) -> Result<(), SpecError> {
    let wrong = |problem: String| {
        Err(SpecError::new("name", problem, "write another name: letters, digits, - and _"))
    };
    if name.is_empty()
        || name.len() > 64
        || !name.chars().all(|c| c.is_ascii_alphanumeric() || c == '-' || c == '_')
    {
        return wrong(format!("{name:?} is no name"));
    }
    if KEYS.contains(&name) {
        return wrong(format!("'{name}' is a key of the scene"));
    }
    if !names.insert(name) {
        return wrong(format!("'{name}' is there twice"));
    }
    Ok(())
}
