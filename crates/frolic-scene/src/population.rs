//! Specs of populations: what a scene file says of one.

use derive_setters::Setters;
use frolic_core::{
    ApartSpec, EmitterSpec, EventSpec, FieldSpec, MotionSpec, Order, ParticleSpec, Ramp, Span, TrailSpec,
    Weather,
};
use frolic_draw::{Colour, LookSpec, RibbonSpec, Shape};
use serde::{Deserialize, Serialize};

use crate::families::{self, FamilySpec, OwnFamily};

/// Defines the spec of a population from the list of families that ship.
macro_rules! population {
    ($($(#[$doc:meta])* $key:ident: $Spec:ty, $about:literal;)*) => {
        /// A named population and its look.
        #[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
        #[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
        #[serde(deny_unknown_fields)]
        #[non_exhaustive]
        pub struct PopulationSpec {
            /// Name: letters, digits, `-` and `_`. It cannot be a key of the scene.
            pub name: String,
            /// Maximum number of live elements.
            pub count: u32,
            /// Lifetime, in seconds: one number or `[lowest, highest]`. Default: `[1, 2]`.
            #[serde(default = "default_life")]
            pub life: Span,
            /// Radius at birth, in metres: one number or `[lowest, highest]`. Default: 0.05.
            #[serde(default = "default_size")]
            pub size: Span,
            /// Response to the world: drag, buoyancy, speed limits.
            #[serde(default)]
            pub motion: MotionSpec,
            /// Emitters.
            #[serde(default)]
            pub emitter: Vec<EmitterSpec>,
            /// Fields that act on this population alone, in addition to those of the world.
            #[serde(default, skip_serializing_if = "Vec::is_empty")]
            pub field: Vec<FieldSpec>,
            /// Events of its elements, and what they start.
            #[serde(default, skip_serializing_if = "Vec::is_empty")]
            pub event: Vec<EventSpec>,
            /// Whether its elements keep apart from each other, and pile up. Default: they pass through each other.
            #[serde(default, skip_serializing_if = "Option::is_none")]
            pub apart: Option<ApartSpec>,
            /// Order of its elements. Default: order of birth.
            #[serde(default)]
            pub order: Order,
            /// Trails: ribbons along the last positions of its elements. Default: none.
            #[serde(default, skip_serializing_if = "Option::is_none")]
            pub trail: Option<TrailLookSpec>,
            $(
                $(#[$doc])*
                #[serde(default, skip_serializing_if = "Option::is_none")]
                pub $key: Option<$Spec>,
            )*
            /// A family of the program's own.
            #[serde(skip)]
            pub(crate) own: Option<OwnFamily>,
            /// Changes with the season. Default: none.
            #[serde(default, skip_serializing_if = "Option::is_none")]
            pub seasons: Option<SeasonsSpec>,
            /// Look of its elements.
            #[serde(default)]
            pub look: LookSpec,
            /// Looks of kinds 1 and up, where a placement assigns kinds, at most 15.
            #[serde(default, skip_serializing_if = "Vec::is_empty")]
            pub kind: Vec<LookSpec>,
        }

        impl PopulationSpec {
            /// A population by name, from what moves it and what it looks like. A trail is drawn as a ribbon in the colours of the look; set `trail` for
            /// another look.
            pub fn new(name: &str, particles: ParticleSpec, look: LookSpec) -> Self {
                let ParticleSpec { count, life, size, motion, emitter, field, event, apart, order, trail, .. } =
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
                    emitter,
                    field,
                    event,
                    apart,
                    order,
                    trail,
                    $($key: None,)*
                    own: None,
                    seasons: None,
                    look,
                    kind: Vec::new(),
                }
            }

            $(
                #[doc = $about]
                pub fn $key(name: &str, spec: $Spec, count: u32, size: Span, look: LookSpec) -> Self {
                    let mut particles = ParticleSpec::new(count);
                    particles.size = size;
                    Self { $key: Some(spec), ..Self::new(name, particles, look) }
                }
            )*

            /// The families that it is written as; a checked one has at most one.
            pub(crate) fn families(&self) -> impl Iterator<Item = &dyn FamilySpec> {
                let shipped = [$(self.$key.as_ref().map(|spec| spec as &dyn FamilySpec)),*];
                let own = self.own.as_ref().map(OwnFamily::spec);
                shipped.into_iter().flatten().chain(own)
            }

            /// Changes densities of the families that ship by the factor that the count changed by.
            fn scale(&mut self, factor: f64) {
                $(self.$key.iter_mut().for_each(|family| FamilySpec::scale(family, factor));)*
            }

            /// Changes what the weather changes.
            pub(crate) fn set_weather(&mut self, weather: Weather) {
                $(self.$key.iter_mut().for_each(|family| FamilySpec::set_weather(family, weather));)*
            }
        }
    };
}

families::list!(population);

/// Changes of a population with the season: ramps over the `season` of the scene.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct SeasonsSpec {
    /// Factor on the colour. Default: white.
    #[setters(into)]
    pub colour: Ramp<Colour>,
    /// Factor on the size. Default: 1.
    #[setters(into)]
    pub size: Ramp<f32>,
}

impl Default for SeasonsSpec {
    fn default() -> Self {
        Self { colour: Ramp::constant(Colour::WHITE), size: Ramp::constant(1.0) }
    }
}

/// Trails: ribbons along the last positions of the elements of a population.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct TrailLookSpec {
    /// Number of positions kept for each element, 1 to 32. Default: 8.
    #[serde(default = "default_places")]
    pub places: u32,
    /// Time between two positions, in seconds, 0.001 to 100. Default: 0.05.
    #[serde(default = "default_every")]
    pub every: f32,
    /// Look of the trails, whose shape is a ribbon. Each segment narrows by the `tip` of the ribbon, and ramps over age run along the trail.
    pub look: LookSpec,
}

impl TrailLookSpec {
    /// Trails of this number of positions, this many seconds apart, with this look.
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
    /// A population of `count` elements of a family of the program's own: see [`FamilySpec`]. `size` is the range of their radius, in metres. Scene
    /// files cannot hold it.
    pub fn of(name: &str, family: impl FamilySpec + 'static, count: u32, size: Span, look: LookSpec) -> Self {
        let mut particles = ParticleSpec::new(count);
        particles.size = size;
        Self { own: Some(OwnFamily::new(family)), ..Self::new(name, particles, look) }
    }

    /// Maximum number of elements that a scene allows. Built-in families keep to theirs, and endless ground has none.
    pub(crate) fn most(&self) -> usize {
        self.own.as_ref().map_or(usize::MAX, |_| self.count as usize)
    }

    /// Returns the spec of its particles.
    pub fn particles(&self) -> ParticleSpec {
        let mut spec = ParticleSpec::new(self.count).life(self.life.min, self.life.max);
        spec.size = self.size;
        spec.motion = self.motion;
        spec.emitter.clone_from(&self.emitter);
        spec.field.clone_from(&self.field);
        spec.event.clone_from(&self.event);
        spec.apart = self.apart;
        spec.order = self.order;
        spec.trail = self.trail.as_ref().map(|trail| TrailSpec::new(trail.places, trail.every));
        spec
    }

    /// Returns the spec of its particles and its look in a season.
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

    /// Returns the keys whose values differ from the default, of those that not every family reads.
    pub(crate) fn written(&self) -> Vec<&'static str> {
        let default = ParticleSpec::new(0);
        [
            ("life", self.life != default.life),
            ("motion", self.motion != default.motion),
            ("emitter", !self.emitter.is_empty()),
            ("field", !self.field.is_empty()),
            ("event", !self.event.is_empty()),
            ("apart", self.apart.is_some()),
            ("order", self.order != default.order),
            ("trail", self.trail.is_some()),
            ("kind", !self.kind.is_empty()),
        ]
        .into_iter()
        .filter_map(|(key, written)| written.then_some(key))
        .collect()
    }

    /// Returns the population scaled to `count` live elements. Rates and bursts change in proportion, and rates are high enough to keep that number
    /// alive.
    pub(crate) fn scaled(&self, count: u32) -> Self {
        let mut scaled = Self { count, ..self.clone() };
        let factor = f64::from(count) / f64::from(self.count.max(1));
        let kept: f64 = self.emitter.iter().map(|emitter| f64::from(emitter.rate)).sum::<f64>()
            * f64::from(self.life.mean())
            / f64::from(self.count.max(1));
        // A fifth more than retires, so that the count is steady: gaps are filled within a few births.
        let stronger = if kept > 0.0 { (1.2 / kept).max(1.0) } else { 1.0 };
        for emitter in &mut scaled.emitter {
            emitter.rate = (f64::from(emitter.rate) * factor * stronger).min(1e9) as f32;
            if let Some(burst) = &mut emitter.burst {
                burst.count = (f64::from(burst.count) * factor).round() as u32;
            }
        }
        scaled.scale(factor);
        scaled
    }
}
