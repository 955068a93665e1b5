//! Building a scene from its spec, and choosing where each population runs.

use frolic_core::{
    Assets, Clock, FrameBudget, ParticleSet, ParticleSpec, Path, SpecError, Storage, Threads, World,
};
use frolic_draw::{DepthOrder, Image, Library, Look, LookSpec, Renderer, Technique};
use frolic_list::ListScratch;

use crate::decor::Decor;
use crate::device::Device;
use crate::families::BuildContext;
use crate::families::registry;
use crate::population::PopulationSpec;
use crate::spec::{Backend, Residence, SceneSpec};
use crate::terrain::TerrainMesh;

use super::Scene;
use super::population::Population;

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
        let seasonal = spec.seasonal();
        let stays = stays(spec, &seasonal, &world, &assets)?;
        let mut populations = Vec::with_capacity(spec.population.len());
        for ((nth, population), (particles, dressed)) in spec.population.iter().enumerate().zip(&seasonal) {
            let Looks { look, kinds, trail } = Looks::new(population, nth, dressed, &decor.library)?;
            let mut context = BuildContext {
                population,
                count: population.count,
                size: particles.size,
                seed: seed_of(spec, nth),
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
            let (most, name) = (population.most(), population.name.clone());
            populations.push(Population { name, most, elements, source, look, kinds, trail });
        }
        set.link()?;
        device.as_mut().map_or(Ok(()), Device::link)?;
        Ok(Self {
            threads: Threads::new(spec.threads),
            assets,
            world,
            set,
            view: spec.camera.view(spec.draw.size)?,
            travel: spec.travel.as_ref().map(Path::new),
            backdrop: spec.backdrop(),
            populations,
            decor,
            clock: Clock::new(spec.clock),
            frame_budget: spec.frame_budget.as_ref().map(FrameBudget::new).transpose()?,
            eases: Vec::new(),
            lag: 0.0,
            time: 0.0,
            caught: vec![0; spec.world.collector.len()],
            prey: Vec::new(),
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
}

/// Seed of a population: each needs its own random numbers.
pub(super) fn seed_of(spec: &SceneSpec, nth: usize) -> u32 {
    spec.seed.wrapping_mul(0x9e37_79b9).wrapping_add(nth as u32)
}

/// The looks of one population.
pub(super) struct Looks {
    pub(super) look: Look,
    pub(super) kinds: Vec<Look>,
    pub(super) trail: Option<Look>,
}

impl Looks {
    /// Builds the looks of population `nth`; `dressed` is its look in the season of the scene.
    pub(super) fn new(
        population: &PopulationSpec,
        nth: usize,
        dressed: &LookSpec,
        library: &Library,
    ) -> Result<Self, SpecError> {
        let build = |look: &LookSpec, key: &str| {
            let under = |error: SpecError| error.under(&format!("population.{nth}.{key}"));
            look.build_with(library).map_err(under)
        };
        let kinds = population.kind.iter().enumerate();
        let kinds =
            kinds.map(|(kind, look)| build(look, &format!("kind.{kind}"))).collect::<Result<_, _>>()?;
        let trail = population.trail.as_ref().map(|trail| build(&trail.look, "trail.look")).transpose()?;
        Ok(Self { look: build(dressed, "look")?, kinds, trail })
    }
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
pub(super) fn stays(
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
