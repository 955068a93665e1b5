//! Changing a scene while it runs.
//!
//! A change keeps all elements that it can. It is applied completely, or, on an error, not at all: everything that can fail is built first.

use std::collections::BTreeSet;

use frolic_core::{Change, FrameBudget, ParticleSpec, Path, SpecError, Threads};
use frolic_draw::{CameraSpec, LookSpec};
use toml::Value;

use crate::decor::Decor;
use crate::error::SceneError;
use crate::families::{BuildContext, Elements, RetuneContext, registry};
use crate::population::PopulationSpec;
use crate::spec::SceneSpec;
use crate::terrain::TerrainMesh;

use super::build::{Looks, seed_of};
use super::{Scene, camera_at};

/// ChangeEffect of a change on a running scene.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct SceneChange {
    /// Paths of the changed keys, as [`SceneSpec::set`] takes them, in order, each with its effect.
    pub keys: Vec<(String, ChangeEffect)>,
}

/// ChangeEffect of one changed key.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum ChangeEffect {
    /// It holds from the next step or picture on. All elements stay.
    Live,
    /// This population was built again, and has started anew.
    Rebuilt(String),
    /// All populations were built again, and have started anew.
    RebuiltAll,
}

impl SceneChange {
    /// Returns whether nothing changed.
    pub fn is_unchanged(&self) -> bool {
        self.keys.is_empty()
    }

    /// Returns whether all elements stayed.
    pub fn is_live(&self) -> bool {
        self.keys.iter().all(|(_, effect)| *effect == ChangeEffect::Live)
    }

    /// Returns the names of the populations that were built again by themselves.
    pub fn rebuilt(&self) -> Vec<&str> {
        let named = self.keys.iter().filter_map(|(_, effect)| match effect {
            ChangeEffect::Rebuilt(name) => Some(name.as_str()),
            _ => None,
        });
        named.collect::<BTreeSet<_>>().into_iter().collect()
    }
}

impl Scene {
    /// Changes one key of the running scene. Paths and values are those of [`SceneSpec::set`].
    ///
    /// ```
    /// use frolic_core::Meter;
    /// use frolic_scene::{Scene, SceneSpec};
    /// let mut scene = Scene::new(&SceneSpec::find("beacon")?)?;
    /// scene.run_to(1.0, &mut Meter::new());
    /// let alive = scene.alive();
    /// assert!(scene.set("world.wind", "[6, 0, 0]")?.is_live());
    /// assert!(scene.set("embers.emitter.0.rate", "20")?.is_live());
    /// assert_eq!(scene.alive(), alive);
    /// assert!(scene.set("embers.size", "-1").is_err());
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    ///
    /// # Errors
    /// As [`SceneSpec::set`], and as [`Scene::new`]. The scene then stays as it is.
    pub fn set(&mut self, path: &str, value: &str) -> Result<SceneChange, SceneError> {
        let spec = self.spec.set(path, value)?;
        self.apply(&spec)
    }

    /// Changes the running scene to another spec. Elements, time, dug masks and random numbers stay wherever the new spec allows:
    ///
    /// - live: the world, emitters, motion, fields, events, trails and counts of particles; the response of blades to wind and pushers; looks, ramps,
    ///   seasons, sun, lights, sky, ground, water, camera, texts, clock, technique, frame budget, threads;
    /// - a population is built again for any other change of its keys;
    /// - all are built again if `seed`, `storage`, `backend`, `residence`, `asset`, or the list of populations changes, and for most changes while a
    ///   graphics device draws.
    ///
    /// # Errors
    /// As [`Scene::new`]. The scene then stays as it is.
    pub fn apply(&mut self, spec: &SceneSpec) -> Result<SceneChange, SceneError> {
        spec.check()?;
        let keys = changed_keys(&self.spec, spec);
        if keys.is_empty() && spec == &self.spec {
            return Ok(SceneChange::default());
        }
        if !self.fits(spec) {
            self.rebuild(spec)?;
            let keys = keys.into_iter().map(|key| (key, ChangeEffect::RebuiltAll)).collect();
            return Ok(SceneChange { keys });
        }
        let rebuilt = self.retune(spec)?;
        let effect = |key: String| {
            let name = rebuilt.iter().find(|name| key.split('.').next() == Some(name.as_str()));
            let effect = name.map_or(ChangeEffect::Live, |name| ChangeEffect::Rebuilt(name.clone()));
            (key, effect)
        };
        Ok(SceneChange { keys: keys.into_iter().map(effect).collect() })
    }

    /// Sets the camera, for example in each frame. A path of the scene's `travel` then starts from it.
    ///
    /// # Errors
    /// A value is out of range. The camera then stays as it is.
    pub fn set_camera(&mut self, camera: CameraSpec) -> Result<(), SpecError> {
        let at = camera_at(&camera, self.travel.as_ref(), self.time);
        self.view = at.view(self.spec.draw.size)?;
        self.spec.camera = camera;
        Ok(())
    }

    /// Returns whether all populations can stay, or be built again one by one.
    fn fits(&self, spec: &SceneSpec) -> bool {
        let before = &self.spec;
        let same = |a: &PopulationSpec, b: &PopulationSpec| {
            a.name == b.name && a.own == b.own && registry::of(a).key() == registry::of(b).key()
        };
        let populations = before.population.len() == spec.population.len()
            && before.population.iter().zip(&spec.population).all(|(a, b)| same(a, b));
        let scene = before.seed == spec.seed
            && before.storage == spec.storage
            && before.backend == spec.backend
            && before.residence == spec.residence
            && before.asset == spec.asset;
        // A device keeps its own copies of worlds and populations.
        let device = self.device.is_none() || is_view_only(before, spec);
        populations && scene && device
    }

    /// Builds everything again, at the present time.
    fn rebuild(&mut self, spec: &SceneSpec) -> Result<(), SceneError> {
        let mut fresh = Self::new(spec)?;
        let now = spec.in_weather().world;
        self.world.retune_with(&now, &fresh.assets)?;
        std::mem::swap(&mut fresh.world, &mut self.world);
        fresh.start_at(self.time)?;
        *self = fresh;
        Ok(())
    }

    /// Moves a scene without elements to a time, in seconds.
    fn start_at(&mut self, time: f64) -> Result<(), SpecError> {
        self.time = time;
        self.view = camera_at(&self.spec.camera, self.travel.as_ref(), time).view(self.spec.draw.size)?;
        self.decor.update_texts(time, &self.caught);
        self.decor.update_reliefs(&self.world);
        Ok(())
    }

    /// Applies a spec that [`Scene::fits`]. Returns the names of populations that were built again.
    fn retune(&mut self, given: &SceneSpec) -> Result<Vec<String>, SceneError> {
        let (before, spec) = (self.spec.in_weather(), given.in_weather());
        let camera = camera_at(&spec.camera, spec.travel.as_ref().map(Path::new).as_ref(), self.time);
        let view = camera.view(spec.draw.size)?;
        let frame_budget = (spec.frame_budget != before.frame_budget)
            .then(|| spec.frame_budget.as_ref().map(FrameBudget::new).transpose())
            .transpose()?;
        let mut world = (spec.world != before.world).then(|| self.world.clone());
        if let Some(world) = &mut world {
            world.retune_with(&spec.world, &self.assets).map_err(|error| error.under("world"))?;
        }
        let mut decor = match decor_differs(&before, &spec) {
            true => Some(Decor::new(&spec, world.as_ref().unwrap_or(&self.world))?),
            false => None,
        };
        if let Some(decor) = &mut decor {
            decor.terrains = TerrainMesh::all(&spec.terrain, &spec.population, spec.seed, &self.assets)?;
        }
        let dressing = decor.as_ref().unwrap_or(&self.decor);
        let was: Vec<_> = before.population.iter().map(|it| it.in_season(before.season)).collect();
        let now: Vec<_> = spec.population.iter().map(|it| it.in_season(spec.season)).collect();
        let mut looks = Vec::with_capacity(now.len());
        for (nth, population) in spec.population.iter().enumerate() {
            let same = decor.is_none()
                && was[nth].1 == now[nth].1
                && population.kind == before.population[nth].kind
                && population.trail.as_ref().map(|it| &it.look)
                    == before.population[nth].trail.as_ref().map(|it| &it.look);
            let look = match same {
                true => None,
                false => Some(Looks::new(population, nth, &now[nth].1, &dressing.library)?),
            };
            looks.push(look);
        }
        let built = self.build_changed([&before, &spec], [&was, &now], &looks)?;
        // Particles last: from here on nothing fails.
        self.retune_particles([&before, &spec], [&was, &now])?;

        let mut rebuilt = Vec::new();
        for (nth, (new, looks)) in built.into_iter().zip(looks).enumerate() {
            let population = &mut self.populations[nth];
            let redressed = looks.is_some();
            if let Some(Looks { look, kinds, trail }) = looks {
                (population.look, population.kinds, population.trail) = (look, kinds, trail);
            }
            population.most =
                spec.population[nth].own.as_ref().map_or(usize::MAX, |_| spec.population[nth].count as usize);
            match new {
                Some(elements) => {
                    population.elements = elements;
                    rebuilt.push(population.name.clone());
                }
                None if redressed || before.population[nth] != spec.population[nth] => {
                    let change = RetuneContext {
                        before: &before.population[nth],
                        population: &spec.population[nth],
                        size: now[nth].0.size,
                        size_before: was[nth].0.size,
                        look: &population.look,
                        kinds: &population.kinds,
                        look_spec: &now[nth].1,
                    };
                    population.elements.retune(&change);
                }
                None => {}
            }
        }
        if let Some(world) = world {
            self.caught.resize(spec.world.collector.len(), 0);
            self.world = world;
        }
        if let Some(budget) = frame_budget {
            self.frame_budget = budget;
        }
        if spec.threads != before.threads {
            self.threads = Threads::new(spec.threads);
        }
        self.clock.retune(spec.clock);
        self.travel = spec.travel.as_ref().map(Path::new);
        (self.view, self.backdrop) = (view, spec.backdrop());
        self.spec = given.clone();
        if let Some(decor) = decor {
            self.decor = decor;
            self.decor.update_texts(self.time, &self.caught);
        }
        self.decor.update_reliefs(&self.world);
        Ok(rebuilt)
    }

    /// Builds the populations that can neither stay nor take their change; none for the others. Particles always take it.
    fn build_changed(
        &mut self,
        [before, spec]: [&SceneSpec; 2],
        [was, now]: [&[(ParticleSpec, LookSpec)]; 2],
        looks: &[Option<Looks>],
    ) -> Result<Vec<Option<Box<dyn Elements>>>, SceneError> {
        let Self { populations, set, assets, .. } = self;
        let mut built = Vec::with_capacity(populations.len());
        for (nth, population) in populations.iter().enumerate() {
            let (old, new) = (&before.population[nth], &spec.population[nth]);
            let (particles, look_spec) = &now[nth];
            let same = old == new && was[nth] == now[nth] && looks[nth].is_none();
            if same || set.get(&new.name).is_some() || self.device.is_some() {
                built.push(None);
                continue;
            }
            let (look, kinds) = match &looks[nth] {
                Some(looks) => (&looks.look, &looks.kinds[..]),
                None => (&population.look, &population.kinds[..]),
            };
            let change = RetuneContext {
                before: old,
                population: new,
                size: particles.size,
                size_before: was[nth].0.size,
                look,
                kinds,
                look_spec,
            };
            if population.elements.can_retune(&change) {
                built.push(None);
                continue;
            }
            let mut context = BuildContext {
                population: new,
                count: new.count,
                size: particles.size,
                seed: seed_of(spec, nth),
                assets,
                look,
                kinds,
                look_spec,
                particles,
                storage: spec.storage,
                set,
                device: None,
                joined: false,
            };
            let elements = registry::of(new).build(&mut context).map_err(|error| error.under(&new.name))?;
            built.push(Some(elements));
        }
        Ok(built)
    }

    /// Changes the specs of particle populations, and the events of the others.
    fn retune_particles(
        &mut self,
        [before, spec]: [&SceneSpec; 2],
        [was, now]: [&[(ParticleSpec, LookSpec)]; 2],
    ) -> Result<(), SceneError> {
        let mut sources = false;
        for (nth, population) in spec.population.iter().enumerate() {
            let own = self.set.get(&population.name).is_some();
            if !own && self.device.is_none() && population.event != before.population[nth].event {
                self.set.retune_source(self.populations[nth].source, &population.event, &self.assets)?;
                sources = true;
            }
        }
        let changed: Vec<(&str, &ParticleSpec)> = (0..now.len())
            .filter(|&nth| now[nth].0 != was[nth].0)
            .map(|nth| (spec.population[nth].name.as_str(), &now[nth].0))
            .filter(|(name, _)| self.set.get(name).is_some())
            .collect();
        let mut changes = Vec::new();
        if !changed.is_empty() {
            let done = self.set.retune(&changed, &self.assets);
            if done.is_err() && sources {
                for (nth, population) in before.population.iter().enumerate() {
                    if self.set.get(&population.name).is_none() {
                        self.set.retune_source(
                            self.populations[nth].source,
                            &population.event,
                            &self.assets,
                        )?;
                    }
                }
                self.set.link()?;
            }
            changes = done?;
        } else if sources {
            self.set.link()?;
        }
        debug_assert!(changes.iter().all(|change| *change == Change::Live));
        Ok(())
    }
}

/// Returns whether two specs differ in the camera, light and picture alone.
fn is_view_only(before: &SceneSpec, spec: &SceneSpec) -> bool {
    let SceneSpec { camera, travel, sky, ground, water, sun, light, clock, frame_budget, title, .. } = spec;
    let same = SceneSpec {
        camera: *camera,
        travel: travel.clone(),
        sky: sky.clone(),
        ground: ground.clone(),
        water: water.clone(),
        sun: *sun,
        light: light.clone(),
        clock: *clock,
        frame_budget: frame_budget.clone(),
        title: title.clone(),
        ..before.clone()
    };
    same == *spec
}

/// Returns whether what is drawn besides populations differs, or the textures and meshes of looks.
fn decor_differs(before: &SceneSpec, spec: &SceneSpec) -> bool {
    let placed = |spec: &SceneSpec| -> Vec<PopulationSpec> {
        if spec.terrain.is_empty() { Vec::new() } else { spec.population.clone() }
    };
    before.texture != spec.texture
        || before.mesh != spec.mesh
        || before.sprite != spec.sprite
        || before.tiles != spec.tiles
        || before.relief != spec.relief
        || before.terrain != spec.terrain
        || before.text != spec.text
        || before.draw.size != spec.draw.size
        || before.folder != spec.folder
        || (before.world.obstacle != spec.world.obstacle && !spec.relief.is_empty())
        || placed(before) != placed(spec)
}

/// Returns the paths of the keys that differ between two specs, in order. Populations go by their names.
fn changed_keys(before: &SceneSpec, spec: &SceneSpec) -> Vec<String> {
    let value = |spec: &SceneSpec| Value::try_from(spec).ok();
    let mut keys = Vec::new();
    if let (Some(a), Some(b)) = (value(before), value(spec)) {
        differences(String::new(), Some(&a), Some(&b), &mut keys);
    }
    let names = |spec: &SceneSpec| -> Vec<String> {
        spec.population.iter().map(|population| population.name.clone()).collect()
    };
    let (before, names) = (names(before), names(spec));
    for key in &mut keys {
        let Some((nth, rest)) =
            key.strip_prefix("population.").map(|rest| rest.split_once('.').unwrap_or((rest, "")))
        else {
            continue;
        };
        let nth = nth.parse().unwrap_or(usize::MAX);
        if let Some(name) = names.get(nth).or(before.get(nth)) {
            *key = if rest.is_empty() { name.clone() } else { format!("{name}.{rest}") };
        }
    }
    keys
}

fn differences(path: String, a: Option<&Value>, b: Option<&Value>, keys: &mut Vec<String>) {
    let under = |key: &str| if path.is_empty() { key.to_owned() } else { format!("{path}.{key}") };
    match (a, b) {
        (Some(a), Some(b)) if a == b => {}
        (Some(Value::Table(a)), Some(Value::Table(b))) => {
            let all: BTreeSet<&String> = a.keys().chain(b.keys()).collect();
            for key in all {
                differences(under(key), a.get(key), b.get(key), keys);
            }
        }
        (Some(Value::Array(a)), Some(Value::Array(b))) if is_list(a) && is_list(b) => {
            for nth in 0..a.len().max(b.len()) {
                differences(under(&nth.to_string()), a.get(nth), b.get(nth), keys);
            }
        }
        _ => keys.push(path),
    }
}

/// Returns whether an array is a list of tables, such as emitters, and not a vector of numbers.
fn is_list(array: &[Value]) -> bool {
    array.iter().all(Value::is_table)
}
