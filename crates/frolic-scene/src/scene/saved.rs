//! Copies of running scenes, in memory and as bytes.

use std::fs;
use std::path::Path;

use frolic_core::{SavedState, SpecError};
use frolic_draw::{Image, Renderer};
use frolic_list::ListScratch;

use crate::error::SceneError;
use crate::folder::Folder;
use crate::output::write_beside;
use crate::spec::SceneSpec;

use super::Scene;
use super::ease::Ease;

/// Version of the format of saved scenes: see `docs/state-format.md`.
const STATE_VERSION: u32 = 1;

/// A running scene at a moment: its spec, and the state of everything that moves.
///
/// It is restored into a scene ([`Scene::restore`]), opened as a new one ([`SavedScene::open`]), or kept as a file.
///
/// ```
/// use frolic_core::Meter;
/// use frolic_scene::{SavedScene, Scene, SceneSpec};
///
/// let mut scene = Scene::new(&SceneSpec::find("beacon")?)?;
/// let mut meter = Meter::new();
/// scene.run_to(0.5, &mut meter);
/// let saved = scene.save()?;
/// scene.set("world.wind", "[9, 0, 0]")?;
/// scene.run_to(1.0, &mut meter);
/// scene.restore(&saved)?;
/// assert!((scene.time() - 0.5).abs() < 1e-6);
/// assert_eq!(scene.save()?, saved);
/// let again = SavedScene::from_bytes(&saved.to_bytes()?)?;
/// assert_eq!(again, saved);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Debug, Clone, PartialEq)]
pub struct SavedScene {
    spec: SceneSpec,
    state: SavedState,
}

impl SavedScene {
    /// Returns the spec that the scene had.
    pub fn spec(&self) -> &SceneSpec {
        &self.spec
    }

    /// Reads files of the scene from another folder.
    pub fn in_folder(mut self, folder: Folder) -> Self {
        self.spec.folder = folder;
        self
    }

    /// Builds a scene in this state. Fields of the program's own have to be added again.
    ///
    /// # Errors
    /// As [`Scene::new`], or the state does not fit the spec.
    pub fn open(&self) -> Result<Scene, SceneError> {
        let mut scene = Scene::new(&self.spec)?;
        scene.take(&self.state)?;
        Ok(scene)
    }

    /// Encodes the scene: see `docs/state-format.md`.
    ///
    /// # Errors
    /// A population is of a family of the program's own, or a file of the scene is in memory: neither can be written.
    pub fn to_bytes(&self) -> Result<Vec<u8>, SceneError> {
        if let Some(own) = self.spec.population.iter().find(|population| population.own.is_some()) {
            let problem = "is of the program's own family, which cannot be written";
            let instead = "keep the saved scene in memory";
            return Err(SpecError::new(format!("population '{}'", own.name), problem, instead).into());
        }
        let mut file = SavedState::default();
        file.put("frolic_state", &STATE_VERSION);
        file.put("scene", &self.spec.to_toml());
        match &self.spec.folder {
            Folder::Here => {}
            Folder::At(path) => file.put("folder", path),
            Folder::Shipped(name) => file.put("shipped", name),
            Folder::Memory(_) => {
                let problem = "has files in memory, which cannot be written";
                return Err(SpecError::new("scene", problem, "keep the saved scene in memory").into());
            }
        }
        file.put_part("state", self.state.clone());
        Ok(file.to_bytes()?)
    }

    /// Reads what [`SavedScene::to_bytes`] wrote.
    ///
    /// # Errors
    /// It is no saved scene, or of another version.
    pub fn from_bytes(bytes: &[u8]) -> Result<Self, SceneError> {
        let file = SavedState::from_bytes(bytes)?;
        let found: u32 = file.value("frolic_state")?;
        if found != STATE_VERSION {
            return Err(SceneError::StateVersion { found, supported: STATE_VERSION });
        }
        let mut spec = SceneSpec::parse(&file.value::<String>("scene")?, "scene of a saved state")?;
        if file.has("folder") {
            spec.folder = Folder::At(file.value("folder")?);
        } else if file.has("shipped") {
            spec.folder = SceneSpec::find(&file.value::<String>("shipped")?)?.folder;
        }
        Ok(Self { spec, state: file.part("state")?.clone() })
    }

    /// Writes a file, by way of `<name>.part`.
    ///
    /// # Errors
    /// As [`SavedScene::to_bytes`], or the file cannot be written.
    pub fn write(&self, path: impl AsRef<Path>) -> Result<(), SceneError> {
        let bytes = self.to_bytes()?;
        write_beside(path, |file| file.write_all(&bytes))
    }

    /// Reads a file.
    ///
    /// # Errors
    /// As [`SavedScene::from_bytes`], or the file cannot be read.
    pub fn read(path: impl AsRef<Path>) -> Result<Self, SceneError> {
        let path = path.as_ref();
        let bytes = fs::read(path).map_err(|source| SceneError::Read { path: path.to_owned(), source })?;
        Self::from_bytes(&bytes)
    }
}

impl Scene {
    /// Saves the scene at this moment. After [`Scene::restore`] it continues with the same bits.
    ///
    /// # Errors
    /// A population is device-resident, has ended, or is of a family of the program's own that does not save its state.
    pub fn save(&self) -> Result<SavedScene, SceneError> {
        let mut state = SavedState::default();
        state.put("time", &self.time);
        state.put("owed", &self.clock.owed());
        state.put("lag", &self.lag);
        state.put("caught", &self.caught);
        state.put("eases", &self.eases);
        if let Some(budget) = &self.frame_budget {
            state.put_part("frame_budget", budget.save());
        }
        state.put_part("world", self.world.save());
        state.put_part("particles", self.set.save());
        let mut populations = SavedState::default();
        for population in &self.populations {
            let saved = population.elements.save().map_err(|error| error.under(&population.name))?;
            populations.put_part(&population.name, saved);
        }
        state.put_part("populations", populations);
        Ok(SavedScene { spec: self.spec.clone(), state })
    }

    /// Returns the scene to a saved moment, its spec included. Fields of the program's own stay.
    ///
    /// # Errors
    /// The state does not fit its spec, or a file of the scene is gone. The scene then stays as it is.
    pub fn restore(&mut self, saved: &SavedScene) -> Result<(), SceneError> {
        // What the present spec shares with the saved one is copied, not built.
        let copy = self.try_clone().ok();
        let copy = copy.and_then(|mut copy| copy.apply(&saved.spec).is_ok().then_some(copy));
        let mut scene = match copy {
            Some(copy) => copy,
            None => {
                let mut scene = Self::new(&saved.spec)?;
                scene.world = scene.world.with_fields_of(&self.world);
                scene
            }
        };
        scene.take(&saved.state)?;
        *self = scene;
        Ok(())
    }

    /// Returns a copy of the running scene, which continues with the same bits. Costs a copy of all elements. Fields of the program's own are
    /// shared.
    ///
    /// # Errors
    /// A graphics device draws the scene, or a population is of a family of the program's own that cannot be copied.
    pub fn try_clone(&self) -> Result<Self, SceneError> {
        if self.device.is_some() {
            let problem = "is a graphics device, whose scenes are not copied";
            return Err(SpecError::new("backend", problem, "write backend = \"cpu\"").into());
        }
        let mut populations = Vec::with_capacity(self.populations.len());
        for population in &self.populations {
            let Some(elements) = population.elements.try_clone() else {
                let key = format!("population '{}'", population.name);
                let problem = "is of a family that cannot be copied";
                return Err(SpecError::new(key, problem, "write `try_clone` for its elements").into());
            };
            populations.push(population.with(elements));
        }
        Ok(Self {
            spec: self.spec.clone(),
            threads: self.threads.clone(),
            assets: self.assets.clone(),
            world: self.world.clone(),
            view: self.view,
            backdrop: self.backdrop.clone(),
            populations,
            set: self.set.clone(),
            decor: self.decor.clone(),
            clock: self.clock.clone(),
            frame_budget: self.frame_budget.clone(),
            travel: self.travel.clone(),
            eases: self.eases.clone(),
            lag: self.lag,
            time: self.time,
            caught: self.caught.clone(),
            prey: Vec::new(),
            scratch: ListScratch::default(),
            renderer: Renderer::new(),
            image: Image::new(self.spec.draw.size),
            device: None,
            remark: self.remark.clone(),
            fault: None,
            ended: Vec::new(),
        })
    }

    /// Takes over a saved state of the same spec.
    fn take(&mut self, state: &SavedState) -> Result<(), SpecError> {
        let part = |key: &str| state.part(key);
        self.world.restore(part("world")?).map_err(|error| error.under("world"))?;
        self.set.restore(part("particles")?)?;
        let populations = part("populations")?;
        for population in &mut self.populations {
            let saved = populations.part(&population.name)?;
            population.elements.restore(saved).map_err(|error| error.under(&population.name))?;
        }
        if let Some(budget) = &mut self.frame_budget {
            budget.restore(part("frame_budget")?).map_err(|error| error.under("frame_budget"))?;
        }
        let caught: Vec<u64> = state.value("caught")?;
        if caught.len() != self.caught.len() || caught.iter().any(|&count| count > 1 << 50) {
            let problem = "are not counts of these collectors";
            return Err(SpecError::new("caught", problem, "restore a state of the same scene"));
        }
        let eases: Vec<Ease> = state.value("eases")?;
        self.eases = eases.into_iter().filter(Ease::is_sound).collect();
        self.caught = caught;
        (self.time, self.lag) = (state.value("time")?, state.value("lag")?);
        self.clock.set_owed(state.value("owed")?);
        self.show_state();
        Ok(())
    }

    /// Brings what is drawn besides elements to the present state.
    fn show_state(&mut self) {
        if let Ok(view) = self.view_of(&self.spec.camera, self.spec.draw.size) {
            self.view = view;
        }
        self.decor.update_texts(self.time, &self.caught);
        self.decor.update_reliefs(&self.world);
        self.adopt_budget();
    }
}
