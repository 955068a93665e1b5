//! Changing a scene while it runs.
//!
//! A change keeps all elements that it can. It is applied completely, or, on an error, not at all: everything that can fail is built first.

use std::collections::BTreeSet;

use frolic_core::{FrameBudget, ParticleSpec, Path, SpecError, Threads};
use frolic_draw::{CameraSpec, Look, LookSpec};

use crate::decor::Decor;
use crate::error::SceneError;
use crate::families::{BuildContext, Elements, RetuneContext, registry};
use crate::population::PopulationSpec;
use crate::spec::{Backend, SceneSpec};
use crate::terrain::TerrainMesh;

use super::build::{Looks, seed_of, stays as stays_of};
use super::{Scene, camera_at};

/// Effect of a change on a running scene.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct SceneChange {
    /// Paths of the changed keys, as [`SceneSpec::set`] takes them, in order, each with its effect.
    pub keys: Vec<(String, ChangeEffect)>,
}

/// Effect of one changed key.
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
        // Populations go by their names.
        let key = path.strip_prefix("population.").and_then(|rest| {
            let (nth, key) = rest.split_once('.')?;
            Some(format!("{}.{key}", self.spec.population.get(nth.parse::<usize>().ok()?)?.name))
        });
        let change = self.apply_checked(&spec, |_| vec![key.unwrap_or_else(|| path.to_owned())])?;
        self.stop_easing(path);
        Ok(change)
    }

    /// Changes the running scene to another spec. Elements, time, dug masks and random numbers stay wherever the new spec allows:
    ///
    /// - live: the world, emitters, motion, fields, events, trails and counts of particles; counts, clumps and shapes of blades and their response to
    ///   wind and pushers; rates of growth; looks, ramps, seasons, sun, lights, sky, ground, water, camera, texts, clock, technique, frame budget, threads;
    /// - a population is built again for any other change of its keys;
    /// - all are built again if `seed`, `storage`, `backend`, `residence`, `asset`, or the list of populations changes; and while a graphics
    ///   device draws, for changes of what is fixed there: see `docs/live.md`.
    ///
    /// # Errors
    /// As [`Scene::new`]. The scene then stays as it is.
    pub fn apply(&mut self, spec: &SceneSpec) -> Result<SceneChange, SceneError> {
        spec.check()?;
        let change = self.apply_checked(spec, |before| before.changed_keys(spec))?;
        self.eases.clear();
        Ok(change)
    }

    pub(super) fn apply_checked(
        &mut self,
        spec: &SceneSpec,
        keys: impl FnOnce(&SceneSpec) -> Vec<String>,
    ) -> Result<SceneChange, SceneError> {
        if *spec == self.spec {
            return Ok(SceneChange::default());
        }
        if let Some(device) = self.device.as_ref().filter(|_| spec.backend != Backend::Cpu) {
            device.check().map_err(|fault| {
                let instead = "write backend = \"cpu\", or build the scene again when there is a device";
                SpecError::new("backend", fault.to_string(), instead)
            })?;
        }
        let keys = keys(&self.spec);
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
        self.view = self.view_of(&camera, self.spec.draw.size)?;
        self.spec.camera = camera;
        Ok(())
    }

    /// Returns whether all populations can stay, or be built again one by one.
    pub(super) fn fits(&self, spec: &SceneSpec) -> bool {
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
        populations && scene && self.fits_device(spec)
    }

    /// Returns whether the device, if there is one, can go on with its textures and populations.
    fn fits_device(&self, spec: &SceneSpec) -> bool {
        let Some(device) = &self.device else { return true };
        if is_view_only(&self.spec, spec) {
            return true;
        }
        let versions = Versions::new(&self.spec, spec);
        let (before, now) = (&versions.before, &versions.spec);
        const FIXED: [&str; 5] = ["draw", "terrain", "texture", "mesh", "relief"];
        let fixed = decor_differs(before, now) || before.differing(now).iter().any(|key| FIXED.contains(key));
        let changed = versions.changed_particles();
        let resident: Vec<_> = changed.into_iter().filter(|(name, _)| device.has_particles(name)).collect();
        // Others that live there take their changes, or all is built anew.
        let takes = || {
            self.populations.iter().enumerate().all(|(nth, population)| {
                let there = device.has(&population.name) && !device.has_particles(&population.name);
                let change = versions.change(nth, &population.look, &population.kinds);
                !there || versions.is_same(nth) || population.elements.can_retune(&change)
            })
        };
        // Populations stay where they are: on the CPU, or on the device.
        let stay = || {
            let mut world = self.world.clone();
            let retuned = world.retune_with(&now.world, self.time, &self.assets).is_ok();
            let stays = |on: usize, population: &PopulationSpec, stays: &[usize]| {
                stays.contains(&on) != device.has(&population.name)
            };
            let all = stays_of(now, &versions.now, &world, &self.assets).unwrap_or_default();
            retuned && now.population.iter().enumerate().all(|(nth, it)| stays(nth, it, &all))
        };
        !fixed && device.can_retune(&resident) && takes() && stay()
    }

    /// Builds everything again, at the present time.
    fn rebuild(&mut self, spec: &SceneSpec) -> Result<(), SceneError> {
        let mut fresh = Self::new(spec)?;
        let mut world = self.world.clone();
        world.retune_with(&fresh.world.spec().clone(), self.time, &fresh.assets)?;
        (fresh.world, fresh.time) = (world, self.time);
        fresh.eases = std::mem::take(&mut self.eases);
        fresh.view = fresh.view_of(&spec.camera, spec.draw.size)?;
        fresh.decor.update_texts(fresh.time, &fresh.caught);
        fresh.decor.update_reliefs(&fresh.world);
        *self = fresh;
        Ok(())
    }

    /// Applies a spec that [`Scene::fits`]. Returns the names of populations that were built again.
    fn retune(&mut self, given: &SceneSpec) -> Result<Vec<String>, SceneError> {
        let versions = Versions::new(&self.spec, given);
        let Versions { before, spec, .. } = &versions;
        let travel = spec.travel.as_ref().map(Path::new);
        let view = camera_at(&spec.camera, travel.as_ref(), self.time).view(spec.draw.size)?;
        let frame_budget = (spec.frame_budget != before.frame_budget)
            .then(|| spec.frame_budget.as_ref().map(FrameBudget::new).transpose())
            .transpose()?;
        let mut world = (spec.world != before.world).then(|| self.world.clone());
        if let Some(world) = &mut world {
            world.retune_with(&spec.world, self.time, &self.assets).map_err(|error| error.under("world"))?;
        }
        let decor = decor_differs(before, spec)
            .then(|| Decor::new(spec, world.as_ref().unwrap_or(&self.world)))
            .transpose()?;
        let terrains = terrain_differs(before, spec)
            .then(|| TerrainMesh::all(&spec.terrain, &spec.population, spec.seed, &self.assets))
            .transpose()?;
        let library = &decor.as_ref().unwrap_or(&self.decor).library;
        let looks = (0..spec.population.len()).map(|nth| {
            let differ = decor.is_some() || versions.looks_differ(nth);
            let build = || Looks::new(&spec.population[nth], nth, &versions.now[nth].1, library);
            differ.then(build).transpose()
        });
        let looks = looks.collect::<Result<Vec<_>, _>>()?;
        let built = self.build_changed(&versions, &looks)?;
        // Particles, and events of the others, last: from here on nothing fails. The device has been asked before.
        let is_resident = |name: &str| self.device.as_ref().is_some_and(|device| device.has_particles(name));
        let (resident, others): (Vec<_>, Vec<_>) =
            versions.changed_particles().into_iter().partition(|(name, _)| is_resident(name));
        self.set.retune(&others, &self.assets)?;
        self.device.as_mut().map_or(Ok(()), |device| device.retune(&resident, &self.assets))?;

        let mut rebuilt = Vec::new();
        for (nth, (new, looks)) in built.into_iter().zip(looks).enumerate() {
            let population = &mut self.populations[nth];
            let redressed = looks.is_some();
            if let Some(Looks { look, kinds, trail }) = looks {
                (population.look, population.kinds, population.trail) = (look, kinds, trail);
            }
            population.most = spec.population[nth].most();
            match new {
                Some(elements) => {
                    population.elements = elements;
                    rebuilt.push(population.name.clone());
                }
                None if redressed || before.population[nth] != spec.population[nth] => {
                    let change = versions.change(nth, &population.look, &population.kinds);
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
        (self.view, self.travel, self.backdrop) = (view, travel, spec.backdrop());
        self.spec = given.clone();
        if let Some(decor) = decor {
            self.replace_decor(decor);
        }
        if let Some(terrains) = terrains {
            self.decor.terrains = terrains;
        }
        self.decor.update_reliefs(&self.world);
        Ok(rebuilt)
    }

    /// Builds the populations that can neither stay nor take their change; none for the others. Particles always take it.
    fn build_changed(
        &mut self,
        versions: &Versions,
        looks: &[Option<Looks>],
    ) -> Result<Vec<Option<Box<dyn Elements>>>, SceneError> {
        let Self { populations, set, assets, device, .. } = self;
        let Versions { spec, now, .. } = versions;
        let mut built = Vec::with_capacity(populations.len());
        for (nth, population) in populations.iter().enumerate() {
            let new = &spec.population[nth];
            let (particles, look_spec) = &now[nth];
            let (look, kinds) = match &looks[nth] {
                Some(looks) => (&looks.look, &looks.kinds[..]),
                None => (&population.look, &population.kinds[..]),
            };
            let same = versions.is_same(nth) && looks[nth].is_none();
            let resident = device.as_ref().is_some_and(|device| device.has_particles(&new.name));
            let is_particles = set.get(&new.name).is_some() || resident;
            if same || is_particles || population.elements.can_retune(&versions.change(nth, look, kinds)) {
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
}

/// The present spec and the new one in their weather, and their populations in their seasons.
pub(super) struct Versions {
    before: SceneSpec,
    spec: SceneSpec,
    was: Vec<(ParticleSpec, LookSpec)>,
    now: Vec<(ParticleSpec, LookSpec)>,
}

impl Versions {
    pub(super) fn new(before: &SceneSpec, spec: &SceneSpec) -> Self {
        let (before, spec) = (before.in_weather(), spec.in_weather());
        Self { was: before.seasonal(), now: spec.seasonal(), before, spec }
    }

    /// Returns whether a look of a population differs, as far as its own keys and the season go.
    fn looks_differ(&self, nth: usize) -> bool {
        let (before, now) = (&self.before.population[nth], &self.spec.population[nth]);
        let trail = |population: &PopulationSpec| population.trail.as_ref().map(|it| it.look.clone());
        self.was[nth].1 != self.now[nth].1 || before.kind != now.kind || trail(before) != trail(now)
    }

    /// Returns whether a population has the same spec, in its season.
    pub(super) fn is_same(&self, nth: usize) -> bool {
        self.before.population[nth] == self.spec.population[nth] && self.was[nth] == self.now[nth]
    }

    /// Changed specs of particles, by name. Those of other families matter for their events.
    fn changed_particles(&self) -> Vec<(&str, &ParticleSpec)> {
        let all = self.spec.population.iter().zip(self.was.iter().zip(&self.now));
        let changed = all.filter(|(_, (was, now))| was.0 != now.0);
        changed.map(|(population, (_, now))| (population.name.as_str(), &now.0)).collect()
    }

    /// The change of a population, with its new looks.
    pub(super) fn change<'a>(&'a self, nth: usize, look: &'a Look, kinds: &'a [Look]) -> RetuneContext<'a> {
        RetuneContext {
            before: &self.before.population[nth],
            population: &self.spec.population[nth],
            size: self.now[nth].0.size,
            size_before: self.was[nth].0.size,
            look,
            kinds,
            look_spec: &self.now[nth].1,
        }
    }
}

/// Returns whether two specs differ in the camera, light and picture alone.
fn is_view_only(before: &SceneSpec, spec: &SceneSpec) -> bool {
    const VIEW: [&str; 10] =
        ["camera", "travel", "sky", "ground", "water", "sun", "light", "clock", "frame_budget", "title"];
    before.folder == spec.folder && before.differing(spec).iter().all(|key| VIEW.contains(key))
}

/// Returns whether terrain differs, or where a population stands that colours it.
fn terrain_differs(before: &SceneSpec, spec: &SceneSpec) -> bool {
    let mut parts = before.terrain.iter().zip(&spec.terrain);
    before.terrain != spec.terrain
        || parts.any(|(old, new)| old.grown(&before.population) != new.grown(&spec.population))
}

/// Returns whether sprites, texts and reliefs differ, or the textures and meshes of looks.
fn decor_differs(before: &SceneSpec, spec: &SceneSpec) -> bool {
    before.texture != spec.texture
        || before.mesh != spec.mesh
        || before.sprite != spec.sprite
        || before.tiles != spec.tiles
        || before.relief != spec.relief
        || before.text != spec.text
        || before.draw.size != spec.draw.size
        || before.folder != spec.folder
        || (before.world.obstacle != spec.world.obstacle && !spec.relief.is_empty())
}
