//! Specs of a scene: the keys of a scene file as plain data.

use derive_setters::Setters;
use std::collections::HashSet;

use frolic_core::{
    ClockSpec, EventSpec, FrameBudgetSpec, MOST_KINDS, ParticleSpec, PathSpec, SpecError, Storage, Weather,
    WorldSpec, at_most, check_events, listed, within,
};
use frolic_draw::{
    BackdropSpec, CameraSpec, DepthOrder, GroundSpec, ImageSize, LightSpec, LookSpec, Mesh, Quality, Shape,
    SkySpec, SunSpec, Technique, WaterSpec,
};
use frolic_list::ListSpec;
use serde::{Deserialize, Serialize};

use crate::assets::AssetSpec;
use crate::families::{CheckContext, registry};
use crate::folder::{Folder, MemoryFile};
use crate::parts::{MeshSpec, ReliefPart, SpriteSpec, TextSpec, TextureSpec, TilesSpec};
use crate::population::PopulationSpec;
use crate::sections::KEYS;
use crate::terrain::TerrainPart;

/// The version of the scene format that this library reads and writes.
pub const FORMAT_VERSION: u32 = 1;

/// Spec of a scene. `docs/scene-format.md` documents the same keys for scene files.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct SceneSpec {
    /// Version of the scene format: 1.
    pub frolic: u32,
    /// One line about the scene.
    #[serde(default)]
    #[setters(into)]
    pub title: String,
    /// Seed of all random numbers. Default: 1.
    #[serde(default = "one")]
    pub seed: u32,
    /// Named weather. It replaces speed and gusts of the world's wind, keeps its direction, and adapts blades. Default: the wind of the world.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub weather: Option<Weather>,
    /// Season, 0 to 1, for populations that change with it. Default: 0.
    #[serde(default)]
    pub season: f32,
    /// Storage of elements. Default: columns.
    #[serde(default)]
    pub storage: Storage,
    /// Number of threads, 0 to 1024; 0 uses all cores. Default: 0.
    #[serde(default)]
    pub threads: u32,
    /// Rendering backend. Default: the CPU.
    #[serde(default)]
    pub backend: Backend,
    /// Where particles are stored and stepped. Default: where they are drawn.
    #[serde(default)]
    pub residence: Residence,
    /// Fixed steps.
    #[serde(default)]
    pub clock: ClockSpec,
    /// Keeps frames within a time budget by reducing quality settings in order. Default: none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub frame_budget: Option<FrameBudgetSpec>,
    /// Camera.
    #[serde(default)]
    pub camera: CameraSpec,
    /// Path of the camera and its target. Default: none; the camera does not move.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub travel: Option<PathSpec>,
    /// Picture settings.
    #[serde(default)]
    pub draw: DrawSpec,
    /// Profile settings.
    #[serde(default)]
    pub profile: ProfileSpec,
    /// Sky.
    #[serde(default)]
    pub sky: SkySpec,
    /// Ground. Default: none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub ground: Option<GroundSpec>,
    /// Water. Default: none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub water: Option<WaterSpec>,
    /// World: gravity, wind, fields, obstacles, collectors.
    #[serde(default)]
    pub world: WorldSpec,
    /// Meshes, distance grids and pictures that emitters, obstacles and fields refer to, at most 256.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    #[setters(into)]
    pub asset: Vec<AssetSpec>,
    /// Lamps, at most 16. Default: none.
    #[serde(default)]
    #[setters(into)]
    pub light: Vec<LightSpec>,
    /// Sun. Default: none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub sun: Option<SunSpec>,
    /// Textures, at most 256.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    #[setters(into)]
    pub texture: Vec<TextureSpec>,
    /// Meshes, at most 256.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    #[setters(into)]
    pub mesh: Vec<MeshSpec>,
    /// Sprites, at most 65536.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    #[setters(into)]
    pub sprite: Vec<SpriteSpec>,
    /// Tile maps, at most 256.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    #[setters(into)]
    pub tiles: Vec<TilesSpec>,
    /// Masks of the world that are drawn as relief, at most 16.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    #[setters(into)]
    pub relief: Vec<ReliefPart>,
    /// Terrain, at most 16 pieces.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    #[setters(into)]
    pub terrain: Vec<TerrainPart>,
    /// Texts, at most 4096.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    #[setters(into)]
    pub text: Vec<TextSpec>,
    /// Populations in drawing order, at most 256.
    #[serde(default)]
    #[setters(into)]
    pub population: Vec<PopulationSpec>,
    /// Folder of the files that the scene refers to.
    #[serde(skip)]
    pub folder: Folder,
}

/// Rendering backend.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Backend {
    /// The CPU.
    #[default]
    Cpu,
    /// The graphics device. An error if there is none.
    Gpu,
    /// The graphics device if there is one, else the CPU. [`Scene::remark`](crate::Scene::remark) says which, and why.
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

/// Where particles are stored and stepped.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Residence {
    /// On the device if it draws and the technique allows it, else on the CPU.
    #[default]
    Auto,
    /// On the CPU. Elements that a device draws are uploaded each frame.
    Cpu,
    /// On the device. An error if that is not possible.
    Gpu,
}

fn one() -> u32 {
    1
}

/// Picture settings.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct DrawSpec {
    /// How elements become draw calls. Default: instanced.
    pub technique: Technique,
    /// Which transparent elements are sorted together by depth. Default: the elements of each population.
    pub depth_order: DepthOrder,
    /// Maximum number of instances in a draw call, 1 to 4294967295. Default: 1048576.
    pub capacity: u32,
    /// Quality of the picture on the CPU: full, or a draft in a part of the time. Default: full. A device draws at full quality.
    pub quality: Quality,
    /// Width and height, in pixels, 1 to 16384. Default: `[1280, 800]`.
    pub size: ImageSize,
    /// Time of the picture, in seconds after the start, 0 to 86400. Default: 5.
    pub at: f32,
}

impl Default for DrawSpec {
    fn default() -> Self {
        let ListSpec { technique, depth_order, capacity, .. } = ListSpec::default();
        Self { technique, depth_order, capacity, quality: Quality::Full, size: ImageSize::default(), at: 5.0 }
    }
}

impl DrawSpec {
    /// Returns the settings of the list builder.
    pub fn list(&self) -> ListSpec {
        ListSpec::new(self.technique).depth_order(self.depth_order).capacity(self.capacity)
    }
}

/// Profile settings.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct ProfileSpec {
    /// Name of the population whose count varies. Default: the first.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[setters(into)]
    pub population: Option<String>,
}

/// Maximum number of lamps and of populations.
const MOST_LIGHTS: usize = 16;
const MOST_POPULATIONS: usize = 256;

impl SceneSpec {
    /// An empty scene with a sky and a camera.
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
            frame_budget: None,
            camera: CameraSpec::default(),
            travel: None,
            draw: DrawSpec::default(),
            profile: ProfileSpec::default(),
            sky: SkySpec::default(),
            ground: None,
            water: None,
            world: WorldSpec::default(),
            asset: Vec::new(),
            light: Vec::new(),
            sun: None,
            texture: Vec::new(),
            mesh: Vec::new(),
            sprite: Vec::new(),
            tiles: Vec::new(),
            relief: Vec::new(),
            terrain: Vec::new(),
            text: Vec::new(),
            population: Vec::new(),
            folder: Folder::default(),
        }
    }

    /// Adds a population of particles, drawn after the others.
    pub fn with(mut self, name: &str, particles: ParticleSpec, look: LookSpec) -> Self {
        self.population.push(PopulationSpec::new(name, particles, look));
        self
    }

    /// Adds a population of any family, drawn after the others.
    pub fn with_population(mut self, population: PopulationSpec) -> Self {
        self.population.push(population);
        self
    }

    /// Hands a mesh, a picture, a distance grid, places or a font to the scene by name, in place of a file: wherever a spec names a file, this one
    /// is used first. Text of the scene does not hold it.
    ///
    /// ```
    /// use frolic_draw::Picture;
    /// use frolic_scene::{SceneSpec, SpriteSpec, TextureSpec};
    /// let checks = Picture::paint([32, 32], |x, y| if (x / 8 + y / 8) % 2 == 0 { [255; 4] } else { [0, 0, 0, 255] })?;
    /// let mut spec = SceneSpec::new("a board").with_file("checks", checks);
    /// spec.texture.push(TextureSpec::new("board", "checks"));
    /// frolic_scene::Scene::new(&spec)?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn with_file(mut self, name: &str, file: impl Into<MemoryFile>) -> Self {
        self.folder = std::mem::take(&mut self.folder).with(name, file.into());
        self
    }

    /// Returns the scene with wind, gusts and blades set by its weather.
    pub(crate) fn in_weather(&self) -> Self {
        let mut aired = self.clone();
        if let Some(weather) = self.weather {
            weather.set_wind(&mut aired.world);
            aired.population.iter_mut().for_each(|it| it.set_weather(weather));
        }
        aired
    }

    /// Returns the particles and the look of each population in the scene's season.
    pub(crate) fn seasonal(&self) -> Vec<(ParticleSpec, LookSpec)> {
        self.population.iter().map(|population| population.in_season(self.season)).collect()
    }

    /// Returns sky, ground and water.
    pub fn backdrop(&self) -> BackdropSpec {
        let mut backdrop = BackdropSpec::default();
        backdrop.sky.clone_from(&self.sky);
        backdrop.ground.clone_from(&self.ground);
        backdrop.water.clone_from(&self.water);
        backdrop
    }

    /// Returns the time until the cost of the population that profiles raise is steady, in seconds: the longest lifetime of particles; of other
    /// families, the time to swing or grow.
    pub fn warm_up_seconds(&self) -> f32 {
        self.climbing().map_or(0.0, |population| registry::of(population).warm_up_seconds(population))
    }

    /// Returns the population whose count a profile varies.
    pub fn climbing(&self) -> Option<&PopulationSpec> {
        match &self.profile.population {
            Some(name) => self.population.iter().find(|population| population.name == *name),
            None => self.population.first(),
        }
    }

    /// Returns the scene with the count of that population set to `count`, and rates that keep about that number alive.
    pub fn scaled(&self, count: u32) -> Self {
        let mut scaled = self.clone();
        if let Some(name) = self.climbing().map(|population| population.name.clone()) {
            for population in scaled.population.iter_mut().filter(|population| population.name == name) {
                *population = population.scaled(count);
            }
        }
        scaled
    }

    /// Checks all values.
    ///
    /// # Errors
    /// Names the first invalid key, as a path from the top of the scene.
    pub fn check(&self) -> Result<(), SpecError> {
        if self.frolic != FORMAT_VERSION {
            let problem = format!("{} is an unknown version of the format", self.frolic);
            return Err(SpecError::new("frolic", problem, format!("write {FORMAT_VERSION}")));
        }
        within("threads", self.threads as f32, 0.0, 1024.0, "threads")?;
        within("season", self.season, 0.0, 1.0, "")?;
        self.clock.check().map_err(|error| error.under("clock"))?;
        if let Some(budget) = &self.frame_budget {
            budget.check().map_err(|error| error.under("frame_budget"))?;
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
        at_most("asset", self.asset.len(), MOST_POPULATIONS)?;
        for (nth, asset) in self.asset.iter().enumerate() {
            asset.check().map_err(|error| error.under(&format!("asset.{nth}")))?;
            if self.asset[..nth].iter().any(|other| other.name == asset.name) {
                let problem = format!("'{}' is there twice", asset.name);
                return Err(SpecError::new(format!("asset.{nth}.name"), problem, "write another name"));
            }
        }
        self.draw.list().check().map_err(|error| error.under("draw"))?;
        if let Some(sun) = &self.sun {
            sun.check().map_err(|error| error.under("sun"))?;
        }
        self.check_parts()?;
        for (nth, light) in self.light.iter().enumerate() {
            light.check().map_err(|error| error.under(&format!("light.{nth}")))?;
        }
        at_most("terrain", self.terrain.len(), 16)?;
        for (nth, terrain) in self.terrain.iter().enumerate() {
            terrain.check(&self.population).map_err(|error| error.under(&format!("terrain.{nth}")))?;
        }
        self.check_populations()?;
        self.check_event_links()?;
        if let (Some(name), None) = (&self.profile.population, self.climbing()) {
            let names = self.population.iter().map(|population| population.name.as_str());
            let instead = format!("name one of: {}", listed(names));
            return Err(SpecError::new(
                "profile.population",
                format!("there is no population '{name}'"),
                instead,
            ));
        }
        Ok(())
    }

    fn check_populations(&self) -> Result<(), SpecError> {
        let mut names = HashSet::new();
        for (nth, population) in self.population.iter().enumerate() {
            let at = format!("population.{nth}");
            check_name(&population.name, &mut names).map_err(|error| error.under(&at))?;
            population.particles().check().map_err(|error| error.under(&at))?;
            registry::check(population, &CheckContext { all: &self.population, world: &self.world })
                .map_err(|error| error.under(&at))?;
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
                        "is not a ribbon",
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
        Ok(())
    }

    /// Checks the events of all populations together, as they start one another.
    fn check_event_links(&self) -> Result<(), SpecError> {
        let events: Vec<(&str, &[EventSpec])> = self
            .population
            .iter()
            .map(|population| (population.name.as_str(), &population.event[..]))
            .collect();
        check_events(&events).map_err(|mut error| {
            // Replace the name of the population by its index in the file.
            let nth = events.iter().position(|(name, _)| error.key.starts_with(&format!("{name}.")));
            if let (Some(nth), Some((_, rest))) = (nth, error.key.split_once('.')) {
                error.key = format!("population.{nth}.{rest}");
            }
            error
        })?;
        Ok(())
    }

    /// Checks textures, meshes, sprites, tile maps, relief and texts, as far as that is possible without files.
    fn check_parts(&self) -> Result<(), SpecError> {
        at_most("texture", self.texture.len(), 256)?;
        at_most("mesh", self.mesh.len(), 256)?;
        at_most("sprite", self.sprite.len(), 65_536)?;
        at_most("tiles", self.tiles.len(), 256)?;
        at_most("text", self.text.len(), 4096)?;
        let twice = |key: &str, names: Vec<&str>| {
            let mut seen = std::collections::HashSet::new();
            match names.into_iter().enumerate().find(|(_, name)| !seen.insert(*name)) {
                Some((nth, name)) => Err(SpecError::new(
                    format!("{key}.{nth}.name"),
                    format!("'{name}' is used twice"),
                    "write another name",
                )),
                None => Ok(()),
            }
        };
        twice("texture", self.texture.iter().map(|texture| texture.name.as_str()).collect())?;
        twice("mesh", self.mesh.iter().map(|mesh| mesh.name.as_str()).collect())?;
        for (nth, texture) in self.texture.iter().enumerate() {
            texture.check().map_err(|error| error.under(&format!("texture.{nth}")))?;
        }
        for (nth, mesh) in self.mesh.iter().enumerate() {
            Mesh::faceted(&mesh.vertices, &mesh.triangles)
                .map_err(|error| error.under(&format!("mesh.{nth}")))?;
        }
        for (nth, sprite) in self.sprite.iter().enumerate() {
            sprite.check().map_err(|error| error.under(&format!("sprite.{nth}")))?;
        }
        for (nth, tiles) in self.tiles.iter().enumerate() {
            tiles.check().map_err(|error| error.under(&format!("tiles.{nth}")))?;
        }
        at_most("relief", self.relief.len(), 16)?;
        for (nth, relief) in self.relief.iter().enumerate() {
            relief.check(&self.world).map_err(|error| error.under(&format!("relief.{nth}")))?;
        }
        for (nth, text) in self.text.iter().enumerate() {
            text.check().map_err(|error| error.under(&format!("text.{nth}")))?;
        }
        Ok(())
    }
}

fn check_name<'a>(name: &'a str, names: &mut HashSet<&'a str>) -> Result<(), SpecError> {
    let wrong = |problem: String| {
        Err(SpecError::new("name", problem, "write another name: letters, digits, - and _"))
    };
    if name.is_empty()
        || name.len() > 64
        || !name.chars().all(|c| c.is_ascii_alphanumeric() || c == '-' || c == '_')
    {
        return wrong(format!("{name:?} is not a name"));
    }
    if KEYS.contains(&name) {
        return wrong(format!("'{name}' is a key of the scene"));
    }
    if !names.insert(name) {
        return wrong(format!("'{name}' is used twice"));
    }
    Ok(())
}
