//! `[[terrain]]`: ground with a shape, coloured by what grows on it.

use std::collections::HashMap;
use std::sync::Arc;

use frolic_core::{Assets, Placement, PlacementSpec, SpecError, TerrainSpec};
use frolic_draw::{AtlasBuilder, Blend, Colour, Instances, Library, Look, LookSpec, Shape, TerrainPaintSpec};
use serde::{Deserialize, Serialize};

use crate::population::PopulationSpec;

/// Ground with the shape of a height map.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct TerrainPart {
    /// Its heights.
    pub heights: TerrainSpec,
    /// Name of the population of blades that grows on it. The ground is tinted where the population is dense. Default: none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub grown_by: Option<String>,
    /// Colours and resolution.
    #[serde(default)]
    pub paint: TerrainPaintSpec,
}

impl TerrainPart {
    /// Bare ground.
    pub fn new(heights: TerrainSpec) -> Self {
        Self { heights, grown_by: None, paint: TerrainPaintSpec::default() }
    }

    pub(crate) fn check(&self, populations: &[PopulationSpec]) -> Result<(), SpecError> {
        self.heights.check().map_err(|error| error.under("heights"))?;
        self.paint.check().map_err(|error| error.under("paint"))?;
        let Some(name) = &self.grown_by else { return Ok(()) };
        if self.grown(populations).is_some() {
            return Ok(());
        }
        let problem = format!("there is no population '{name}' placed on terrain");
        Err(SpecError::new("grown_by", problem, "name a population of blades"))
    }

    /// Returns the placement of the population that grows on it, and whether it is endless.
    pub(crate) fn grown<'a>(&self, populations: &'a [PopulationSpec]) -> Option<(&'a [PlacementSpec], bool)> {
        let name = self.grown_by.as_ref()?;
        populations.iter().find(|population| population.name == *name)?.families().next()?.ground()
    }
}

/// The mesh of a terrain, ready to draw.
#[derive(Debug, Clone)]
pub(crate) struct TerrainMesh {
    look: Look,
}

/// The mesh is in world coordinates.
const ORIGIN: [f32; 1] = [0.0];

impl TerrainMesh {
    /// Builds all terrains of a scene.
    pub(crate) fn all(
        parts: &[TerrainPart],
        populations: &[PopulationSpec],
        seed: u32,
        assets: &Assets,
    ) -> Result<Vec<Self>, SpecError> {
        let under = |(nth, part)| {
            Self::new(part, populations, seed, assets)
                .map_err(|error: SpecError| error.under(&format!("terrain.{nth}")))
        };
        parts.iter().enumerate().map(under).collect()
    }

    fn new(
        part: &TerrainPart,
        populations: &[PopulationSpec],
        seed: u32,
        assets: &Assets,
    ) -> Result<Self, SpecError> {
        let terrain = part.heights.build(assets).map_err(|error| error.under("heights"))?;
        let placement = part.grown(populations).map(|(layers, endless)| {
            let mut layers = layers.to_vec();
            // How dense does not matter here.
            layers.iter_mut().filter(|layer| layer.density == 0.0).for_each(|layer| layer.density = 0.01);
            Placement::new(&layers, None, seed, assets).map(|placement| (placement, endless))
        });
        let placement = placement.transpose()?;
        let cover = |x: f32, z: f32| {
            placement.as_ref().map_or(0.0, |(placement, endless)| placement.cover(x, z, *endless))
        };
        let mut builder = AtlasBuilder::default();
        builder.picture("terrain", part.paint.paint(&terrain, cover)?);
        let meshes = HashMap::from([("terrain".to_owned(), Arc::new(part.paint.mesh(&terrain)?))]);
        let library = Library { meshes, atlas: Arc::new(builder.build()?) };
        let mut look = LookSpec::default();
        look.shape = Shape::textured_mesh("terrain", "terrain");
        (look.blend, look.lit) = (Blend::Opaque, 1.0);
        look.colour_over_age = frolic_core::Ramp::constant(Colour::WHITE);
        Ok(Self { look: look.build_with(&library)? })
    }

    /// Its one instance.
    pub(crate) fn drawn(&self) -> Option<(Instances<'_>, &Look)> {
        let at = Instances::at([&ORIGIN; 3]).ok()?.turned(&ORIGIN, &ORIGIN).ok()?;
        Some((at, &self.look))
    }
}
