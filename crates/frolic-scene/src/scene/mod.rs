//! Running scenes: state built from a [`SceneSpec`].

mod apply;
mod build;
mod draw;
mod ease;
mod population;
mod run;
mod saved;
mod state;

use frolic_core::{Assets, Clock, FrameBudget, ParticleSet, Particles, Path, SpecError, Threads, World};
use frolic_draw::{BackdropSpec, CameraSpec, Image, ImageSize, Mesh, Renderer, View};
use frolic_list::ListScratch;

use crate::decor::Decor;
use crate::device::Device;
use crate::error::{DeviceError, SceneError};
use crate::families::DrawContext;
use crate::places_file::Places;
use crate::spec::SceneSpec;

pub use apply::{ChangeEffect, SceneChange};
use ease::Ease;
use population::Population;
pub use saved::SavedScene;

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
    assets: Assets,
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
    /// Keys on their way to other values.
    eases: Vec<Ease>,
    /// Interpolation lag: time from the picture to the state of the populations, in seconds.
    lag: f32,
    time: f64,
    /// Number of elements that each collector has picked up since the start.
    caught: Vec<u64>,
    /// Memory of a step: elements that populations have caught of others.
    prey: Vec<(usize, u32)>,
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

impl Scene {
    /// Returns the spec that the scene was built from.
    pub fn spec(&self) -> &SceneSpec {
        &self.spec
    }

    /// Returns the thread pool of the scene. A frame loop inside `threads().run(..)` allocates nothing after warm-up.
    pub fn threads(&self) -> Threads {
        self.threads.clone()
    }

    /// Returns the frame budget, which holds frames within a time budget, if the scene has one.
    pub fn frame_budget(&self) -> Option<&FrameBudget> {
        self.frame_budget.as_ref()
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
        self.view = self.view_of(&self.spec.camera, size)?;
        if size != self.spec.draw.size {
            self.spec.draw.size = size;
            let decor = Decor::new(&self.spec, &self.world)?;
            self.replace_decor(decor);
        }
        Ok(())
    }

    /// The view of a camera at the present time of the scene's `travel`.
    fn view_of(&self, camera: &CameraSpec, size: ImageSize) -> Result<View, SpecError> {
        camera_at(camera, self.travel.as_ref(), self.time).view(size)
    }

    /// Replaces everything drawn besides populations, except for terrain.
    fn replace_decor(&mut self, mut decor: Decor) {
        std::mem::swap(&mut decor.terrains, &mut self.decor.terrains);
        self.decor = decor;
        self.decor.update_texts(self.time, &self.caught);
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

    /// Returns the current view.
    pub fn view(&self) -> &View {
        &self.view
    }

    /// Returns the number of groups of the last population that forms any: of flocks, on the CPU. It takes about as long as a step.
    pub fn groups(&self) -> Option<usize> {
        self.populations.iter().rev().find_map(|population| population.elements.groups())
    }

    /// Returns a remark on the choice of backend, if any: the name of the device that draws, or why there is none.
    pub fn remark(&self) -> Option<&str> {
        self.remark.as_deref()
    }

    /// Returns whether a graphics device draws the scene.
    pub fn is_on_device(&self) -> bool {
        self.device.is_some()
    }
}

/// Returns the camera at a time, in seconds, of its path.
fn camera_at(camera: &CameraSpec, travel: Option<&Path>, time: f64) -> CameraSpec {
    let mut camera = *camera;
    let way = travel.map_or([0.0; 3], |path| path.at(time).0.to_array());
    for axis in 0..3 {
        camera.position[axis] += way[axis];
        camera.target[axis] += way[axis];
    }
    camera
}
