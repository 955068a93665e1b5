//! Placement: where elements of any population are put, and how each is turned, sized, tilted and tinted.
//!
//! **In:** layers of [`PlacementSpec`], each a pattern on an area of ground, with sieves that let a share through. **Out:**
//! [`PlacedColumns`], in order of the squares they lie in. A place depends on the specs and the seed alone: a piece made by itself is
//! the same as that piece of the whole, so fields without end are generated around the camera, and any chunk size gives the same field.
//!
//! | question | file |
//! | --- | --- |
//! | how do places lie? | `patterns.rs` |
//! | where do fewer stand? | `sieve.rs` |
//! | how high is the ground, how steep? | `ground.rs` |
//! | what do neighbours share? | `clumps.rs` |
//! | which squares of ground are the same? | `repeat.rs` |

mod clumps;
mod ground;
mod patterns;
mod placed;
mod repeat;
mod shapes;
mod sieve;
mod source;
mod spec;

use std::sync::Arc;

use glam::{Vec2, Vec3};
use rayon::prelude::*;

pub use clumps::{Clump, ClumpSpec};
pub use ground::{Footing, Terrain, TerrainSpec};
pub use patterns::PatternSpec;
use patterns::{MOST_DENSITY, Pattern};
pub use placed::{PlacedColumns, PlacedRow};
pub(crate) use repeat::Repeat;
use repeat::{Layout, Spot};
pub use shapes::{AimSpec, MeshPart, ShapeSpec, VolumePart};
pub use sieve::{Sieve, SieveBy, SieveSpec};
pub(crate) use source::{Basis, Source};
use spec::MOST_LAYERS;
pub use spec::{AreaSpec, EachSpec, MOST_KINDS, On, PlacementSpec, check_layers};

use crate::assets::{Forms, pick, sums};
use crate::foundations::error::{SpecError, at_most};
use crate::foundations::random::{Draws, hash3, unit};

/// A placement made ready: layers, one on top of the other.
#[derive(Debug, Clone)]
pub struct Placement {
    layers: Vec<Layer>,
    /// Most that are put, if that was asked for.
    count: Option<u32>,
}

#[derive(Debug, Clone)]
struct Layer {
    spec: PlacementSpec,
    seed: u32,
    places: Places,
    sieves: Vec<Sieve>,
    terrain: Option<Terrain>,
    kinds: Vec<f32>,
    /// Those whose own number is below it are put.
    threshold: f32,
    /// Squares of ground that are the same, if any are, and what lies on them.
    repeat: Option<Repeat>,
    layouts: Vec<Layout>,
}

#[derive(Debug, Clone)]
enum Places {
    Pattern(Pattern),
    /// So many on a form.
    Form(Source, u32),
    Read(Arc<PlacedColumns>),
}

/// Most elements of one placement that are made at once.
pub const MOST_PLACED: u32 = 64 << 20;

/// Side of the squares that a whole placement is made in, side by side, as a share of its larger side.
const SQUARES: f32 = 16.0;

impl Placement {
    /// Layers for so many elements in all, or for as many as their densities say.
    ///
    /// With a count, layers of patterns that leave their density open get just that many (fewer only where sieves let next to nothing
    /// through, or a pattern of its own density has no more); each layer its `share` of it.
    ///
    /// # Errors
    /// A value out of range, a form that is missing or of another kind, or more elements than are made at once.
    pub fn new(
        specs: &[PlacementSpec],
        count: Option<u32>,
        seed: u32,
        forms: &Forms,
    ) -> Result<Self, SpecError> {
        Self::repeated(specs, count, seed, forms, None)
    }

    /// The same, where squares of ground may share what lies on them: with a count, somewhat fewer, as they come and go a layout at a time.
    pub(crate) fn repeated(
        specs: &[PlacementSpec],
        count: Option<u32>,
        seed: u32,
        forms: &Forms,
        repeat: Option<Repeat>,
    ) -> Result<Self, SpecError> {
        at_most("placement", specs.len(), MOST_LAYERS)?;
        let shares: f32 = specs.iter().map(|spec| spec.share.unwrap_or(1.0)).sum();
        let mut layers = Vec::with_capacity(specs.len());
        let mut left = count;
        for (nth, spec) in specs.iter().enumerate() {
            let under =
                |error: SpecError| if specs.len() > 1 { error.under(&nth.to_string()) } else { error };
            let part = count.map(|count| {
                let share = spec.share.unwrap_or(1.0) / shares.max(1e-9);
                let part = if nth + 1 == specs.len() {
                    left.unwrap_or(0)
                } else {
                    ((f64::from(count) * f64::from(share)).round() as u32).min(left.unwrap_or(0))
                };
                left = left.map(|left| left - part);
                part
            });
            let seed = hash3(seed, nth as u32, PLACE_SEED)[0];
            layers.push(Layer::new(spec, part, seed, forms, repeat).map_err(under)?);
        }
        Ok(Self { layers, count })
    }

    /// All that is put, square by square.
    pub fn all(&self) -> PlacedColumns {
        let mut all = PlacedColumns::default();
        for layer in &self.layers {
            all.append(&layer.all());
        }
        if let Some(count) = self.count {
            all.truncate(count as usize);
        }
        all
    }

    /// Adds what stands in a rectangle of ground, least corner in, greatest out, x and z, m: of layers of ground, wherever their area ends; it is
    /// for fields without end. The same elements whatever rectangles the ground is cut into.
    pub fn within(&self, low: [f32; 2], high: [f32; 2], into: &mut PlacedColumns) {
        for layer in &self.layers {
            layer.within(low, high, into);
        }
    }

    /// What lies on squares of a layout where no sieve leaves any out, on level ground at height 0, about the square's middle.
    pub(crate) fn layout(&self, nth: u32, into: &mut PlacedColumns) {
        for layer in &self.layers {
            layer.layout(nth, into);
        }
    }

    /// Least and greatest x and z of the areas, m.
    pub fn extent(&self) -> [[f32; 2]; 2] {
        let mut extent = [[f32::INFINITY; 2], [f32::NEG_INFINITY; 2]];
        for [low, high] in self.layers.iter().map(|layer| layer.spec.area.corners()) {
            for axis in 0..2 {
                extent[0][axis] = extent[0][axis].min(low[axis]);
                extent[1][axis] = extent[1][axis].max(high[axis]);
            }
        }
        extent
    }

    /// How densely things stand at x and z, m, against where they stand most densely, 0 to 1: of the layer that lets most through there.
    /// `endless` asks beyond the areas too. Nothing of layers on forms.
    pub fn cover(&self, x: f32, z: f32, endless: bool) -> f32 {
        let of = |layer: &Layer| {
            let [low, high] = layer.spec.area.corners();
            let inside = x >= low[0] && x < high[0] && z >= low[1] && z < high[1];
            let stands = matches!(layer.places, Places::Pattern(_)) && (inside || endless);
            if stands { layer.share([x, z]).0 } else { 0.0 }
        };
        self.layers.iter().map(of).fold(0.0, f32::max)
    }

    /// The ground at x and z, m, of the first layer that has a height map. `None` beside it, in its holes, and where no layer has one.
    pub fn ground(&self, x: f32, z: f32) -> Option<Footing> {
        self.layers.iter().find_map(|layer| layer.terrain.as_ref())?.at(x, z)
    }
}

/// Sets the draws of placements apart from all others.
const PLACE_SEED: u32 = 0x3a9d_01b7;

impl Layer {
    fn new(
        spec: &PlacementSpec,
        count: Option<u32>,
        seed: u32,
        forms: &Forms,
        repeat: Option<Repeat>,
    ) -> Result<Self, SpecError> {
        spec.check()?;
        let sieves = spec
            .sieve
            .iter()
            .enumerate()
            .map(|(nth, sieve)| sieve.build(forms).map_err(|error| error.under(&format!("sieve.{nth}"))));
        let sieves = sieves.collect::<Result<Vec<_>, _>>()?;
        let terrain = spec.terrain.as_ref().map(|terrain| terrain.build(forms)).transpose();
        let terrain = terrain.map_err(|error| error.under("terrain"))?;
        let on_form = |shape: &ShapeSpec, area: f32| -> Result<Places, SpecError> {
            let many = count.map_or(f64::from(area) * f64::from(spec.density), f64::from);
            Ok(Places::Form(Source::new(shape, forms).map_err(|error| error.under("on"))?, most(many)?))
        };
        let kinds = sums(spec.each.kinds.iter().copied());
        let mut layer = Self {
            spec: spec.clone(),
            seed,
            places: Places::Read(Arc::default()),
            sieves,
            terrain,
            kinds,
            threshold: 1.0,
            repeat,
            layouts: Vec::new(),
        };
        layer.places = match &spec.on {
            On::Mesh { form } => {
                let surface = forms.surface("on.mesh.form", form)?;
                on_form(&ShapeSpec::Mesh { form: form.clone(), part: MeshPart::Surface }, surface.area())?
            }
            On::Volume { form, part } => {
                let volume = forms.distance("on.volume.form", form)?.volume();
                on_form(&ShapeSpec::Volume { form: form.clone(), part: *part }, volume)?
            }
            On::Places { form } => Places::Read(Arc::clone(forms.places("on.places.form", form)?)),
            On::Ground(pattern) => return layer.patterned(pattern, count),
        };
        Ok(layer)
    }

    /// A pattern of the density that gives the count.
    fn patterned(mut self, pattern: &PatternSpec, count: Option<u32>) -> Result<Self, SpecError> {
        let [low, high] = self.spec.area.corners();
        let area = f64::from(high[0] - low[0]) * f64::from(high[1] - low[1]);
        let Some(count) = count else {
            if self.spec.density == 0.0 && !pattern.is_set() {
                let problem = "is not said, and no count either";
                return Err(SpecError::new("density", problem, "write elements a square metre"));
            }
            most(area * f64::from(self.spec.density))?;
            self.lay(self.searchable(pattern.build(self.spec.density, self.seed))?);
            return Ok(self);
        };
        most(f64::from(count))?;
        self.lay(self.searchable(pattern.build(self.spec.density, self.seed))?);
        if count == 0 {
            self.threshold = 0.0;
            return Ok(self);
        }
        let mut numbers = Vec::new();
        if pattern.is_set() || self.spec.density > 0.0 {
            numbers = self.numbers();
        } else {
            // Somewhat denser than the sieves let through on the whole, until there are enough to take the wanted number from.
            let through = self.let_through().max(1e-9);
            // Where next to nothing goes through: better few of them than a search without end.
            let most = (f64::from(count) * 64.0).max(4e6).min(f64::from(MOST_PLACED)) / area;
            let most = most.min(f64::from(MOST_DENSITY));
            let mut density = f64::from(count) / (area * through);
            for nth in 0..6 {
                density *= if nth == 0 { 1.01 + 3.0 / f64::from(count).sqrt() } else { 1.25 };
                self.lay(pattern.build(density.min(most) as f32, self.seed));
                numbers = self.numbers();
                if density >= most || numbers.len() >= count as usize {
                    break;
                }
            }
        }
        // Sieves may leave few; what has no room is an error.
        let fit = area * f64::from(MOST_DENSITY);
        let follows = !pattern.is_set() && self.spec.density == 0.0;
        if follows && numbers.len() < count as usize && f64::from(count) > fit {
            let problem = format!("has room for about {fit:.0} of {count} elements");
            return Err(SpecError::new("area", problem, "write a larger area or a smaller count"));
        }
        // Of more than enough those with the lowest numbers, which are anywhere: no corner is left empty.
        if numbers.len() > count as usize {
            let (_, &mut last, _) = numbers.select_nth_unstable_by(count as usize - 1, f32::total_cmp);
            // Squares that are the same share numbers: all of one, or none, so that no square is cut.
            let shared =
                self.repeat.is_some() && numbers[..count as usize].iter().any(|&number| number < last);
            self.threshold = if shared { last } else { f32::from_bits(last.to_bits() + 1) };
        }
        Ok(self)
    }

    /// The pattern, if a search of the whole area ends within seconds.
    fn searchable(&self, pattern: Pattern) -> Result<Pattern, SpecError> {
        if self.spec.density == 0.0 && !matches!(&self.spec.on, On::Ground(spec) if spec.is_set()) {
            // Its density follows from the count.
            return Ok(pattern);
        }
        let candidates: f64 = self.squares().iter().map(|[low, high]| pattern.candidates(*low, *high)).sum();
        if candidates <= MOST_CANDIDATES {
            return Ok(pattern);
        }
        let problem =
            format!("has about {candidates:.0} places to look at; at most {MOST_CANDIDATES:.0} are searched");
        Err(SpecError::new("area", problem, "write a smaller area, a lower density or a wider spacing"))
    }

    /// Share of the area's ground that sieves let through, from places spread evenly over it.
    fn let_through(&self) -> f64 {
        const SIDE: usize = 128;
        let [low, high] = self.spec.area.corners();
        let row = |j: usize| -> f64 {
            let at =
                |i: usize, axis: usize| low[axis] + (high[axis] - low[axis]) * (i as f32 + 0.5) / SIDE as f32;
            (0..SIDE).map(|i| f64::from(self.share([at(i, 0), at(j, 1)]).0)).sum()
        };
        (0..SIDE).into_par_iter().map(row).sum::<f64>() / (SIDE * SIDE) as f64
    }

    /// Takes on a pattern.
    fn lay(&mut self, pattern: Pattern) {
        if let Some(repeat) = self.repeat {
            self.layouts = repeat.layouts(&pattern, |home| self.clump(home));
        }
        self.places = Places::Pattern(pattern);
    }

    /// Calls `put` with each spot of the pattern in a rectangle.
    fn spots(&self, pattern: &Pattern, low: [f32; 2], high: [f32; 2], mut put: impl FnMut(Spot)) {
        match self.repeat {
            Some(repeat) => repeat.within(&self.layouts, low, high, put),
            None => pattern.within(low, high, |(at, id)| put(Spot { at, id, clump: None })),
        }
    }

    /// The share that stands at a place, and the ground and clump there.
    fn share(&self, at: [f32; 2]) -> (f32, Option<Footing>, Option<Clump>) {
        self.share_of(at, None)
    }

    /// The same where the clump may be known.
    fn share_of(
        &self,
        [x, z]: [f32; 2],
        clump: Option<(f32, Option<Clump>)>,
    ) -> (f32, Option<Footing>, Option<Clump>) {
        let footing = self.terrain.as_ref().map(|terrain| terrain.at(x, z));
        if footing == Some(None) {
            return (0.0, None, None);
        }
        let footing = footing.flatten();
        let share = self.sieves.iter().map(|sieve| sieve.share(x, z, footing)).product::<f32>();
        if share <= 0.0 {
            return (0.0, footing, None);
        }
        let home = || self.repeat.map_or([x, z], |repeat| repeat.home([x, z]));
        let (thinned, clump) = clump.unwrap_or_else(|| self.clump(home()));
        (share * thinned, footing, clump)
    }

    /// The share that clumps leave at a place, and the clump there.
    fn clump(&self, [x, z]: [f32; 2]) -> (f32, Option<Clump>) {
        let clump = self.spec.clumps.map(|spec| (spec.at(x, z), spec.thin));
        (clump.map_or(1.0, |(clump, thin)| clump.share(thin)), clump.map(|(clump, _)| clump))
    }

    /// The numbers of all that the area holds before the threshold.
    fn numbers(&self) -> Vec<f32> {
        let Places::Pattern(pattern) = &self.places else { return Vec::new() };
        let numbers: Vec<Vec<f32>> = self
            .squares()
            .into_par_iter()
            .map(|[low, high]| {
                let mut numbers = Vec::new();
                self.spots(pattern, low, high, |spot| {
                    let [pass, number] = through(spot.id);
                    if pass < self.share_of(spot.at, spot.clump).0 {
                        numbers.push(number);
                    }
                });
                numbers
            })
            .collect();
        numbers.concat()
    }

    /// Squares that make up the area.
    fn squares(&self) -> Vec<[[f32; 2]; 2]> {
        let [low, high] = self.spec.area.corners();
        let side = (high[0] - low[0]).max(high[1] - low[1]) / SQUARES;
        let many = |axis: usize| ((high[axis] - low[axis]) / side).ceil().max(1.0) as usize;
        let corner = |nth: usize, axis: usize| (low[axis] + nth as f32 * side).min(high[axis]);
        let mut squares = Vec::new();
        for j in 0..many(1) {
            for i in 0..many(0) {
                let end = |nth: usize, axis: usize| {
                    if nth + 1 == many(axis) { high[axis] } else { corner(nth + 1, axis) }
                };
                squares.push([[corner(i, 0), corner(j, 1)], [end(i, 0), end(j, 1)]]);
            }
        }
        squares
    }

    fn all(&self) -> PlacedColumns {
        let mut all = PlacedColumns::default();
        if !matches!(self.places, Places::Pattern(_)) {
            // Wherever the form is.
            self.within([f32::NEG_INFINITY; 2], [f32::INFINITY; 2], &mut all);
            return all;
        }
        let parts: Vec<PlacedColumns> = self
            .squares()
            .into_par_iter()
            .map(|[low, high]| {
                let mut part = PlacedColumns::default();
                self.within(low, high, &mut part);
                part
            })
            .collect();
        parts.iter().for_each(|part| all.append(part));
        all
    }

    fn within(&self, low: [f32; 2], high: [f32; 2], into: &mut PlacedColumns) {
        let inside =
            |row: &PlacedRow| row.px >= low[0] && row.px < high[0] && row.pz >= low[1] && row.pz < high[1];
        match &self.places {
            Places::Pattern(pattern) => self.spots(pattern, low, high, |spot| {
                if let Some(row) = self.stand(spot) {
                    into.push(&row);
                }
            }),
            Places::Form(source, count) => {
                let rows = (0..*count).filter_map(|nth| self.on_form(source, nth));
                rows.filter(inside).for_each(|row| into.push(&row));
            }
            Places::Read(places) => {
                let rows = (0..places.len()).filter_map(|nth| self.as_read(places, nth));
                rows.filter(inside).for_each(|row| into.push(&row));
            }
        }
    }

    /// What stands at a place of the pattern, if anything.
    fn stand(&self, Spot { at, id, clump }: Spot) -> Option<PlacedRow> {
        let [pass, number] = through(id);
        if number >= self.threshold {
            return None;
        }
        let (share, footing, clump) = self.share_of(at, clump);
        if pass >= share {
            return None;
        }
        let footing = footing.unwrap_or(Footing { y: 0.0, rise: [0.0; 2] });
        let row = PlacedRow {
            px: at[0],
            py: footing.y,
            pz: at[1],
            rise_x: footing.rise[0],
            rise_z: footing.rise[1],
            ..PlacedRow::UPRIGHT
        };
        Some(self.dress(row, id, footing.normal(), self.spec.each.square.unwrap_or(0.0), clump))
    }

    fn layout(&self, nth: u32, into: &mut PlacedColumns) {
        let (Some(repeat), Some(layout)) = (self.repeat, self.layouts.get(nth as usize)) else { return };
        let half = repeat.side * 0.5;
        for spot in layout {
            let [pass, number] = through(spot.id);
            let (share, clump) = spot.clump.unwrap_or((1.0, None));
            if number < self.threshold && pass < share {
                let row = PlacedRow { px: spot.at[0] - half, pz: spot.at[1] - half, ..PlacedRow::UPRIGHT };
                into.push(&self.dress(row, spot.id, Vec3::Y, self.spec.each.square.unwrap_or(0.0), clump));
            }
        }
    }

    fn on_form(&self, source: &Source, nth: u32) -> Option<PlacedRow> {
        let draws = Draws { seed: self.seed, id: nth };
        let (at, outwards) = source.place(draws);
        let id = hash3(self.seed, nth, PLACE_SEED)[1];
        let [pass, _] = through(id);
        let (share, _, clump) = self.share([at.x, at.z]);
        if pass >= share {
            return None;
        }
        let row = PlacedRow { px: at.x, py: at.y, pz: at.z, ..PlacedRow::UPRIGHT };
        let square = self.spec.each.square.unwrap_or(1.0);
        Some(self.dress(row, id, outwards.unwrap_or(Vec3::Y), square, clump))
    }

    fn as_read(&self, places: &PlacedColumns, nth: usize) -> Option<PlacedRow> {
        let row = places.row(nth)?;
        let [pass, _] = through(row.id);
        let share = self.sieves.iter().map(|sieve| sieve.share(row.px, row.pz, None)).product::<f32>();
        (pass < share).then_some(row)
    }

    /// Turns, tilts, sizes and tints an element.
    fn dress(&self, row: PlacedRow, id: u32, up: Vec3, square: f32, clump: Option<Clump>) -> PlacedRow {
        let EachSpec { turn_degrees, tilt_degrees, size, .. } = &self.spec.each;
        let draws = Draws { seed: id, id: self.seed };
        let [turn, tilt, large] = draws.draw(1);
        let [tint, kind, _] = draws.draw(2);
        let mut turn = turn_degrees.at(turn).to_radians();
        let mut tint = tint;
        let mut size = size.at(large);
        let (mut bend, mut stiffness) = (row.bend, row.stiffness);
        if let (Some(clump), Some(spec)) = (clump, &self.spec.clumps) {
            let (sin, cos) = libm::sincosf(turn);
            let way = Vec2::new(sin, cos) * (1.0 - spec.facing) + clump.facing * spec.facing;
            if way.length_squared() > 1e-8 {
                turn = libm::atan2f(way.x, way.y);
            }
            tint += (clump.tint - tint) * spec.tint;
            size *= clump.size;
            bend += clump.bend;
            stiffness *= clump.stiffness;
        }
        let tilt = tilt_degrees.at(tilt).to_radians();
        // The way its top points: leant towards where it is turned, then from straight up towards square to the ground.
        let (sin, cos) = libm::sincosf(turn);
        let (lean, straight) = libm::sincosf(tilt);
        let top = Vec3::new(sin * lean, straight, cos * lean);
        let (turn, tilt) = if square > 0.0 && up.y < 0.9999 {
            let towards = Vec3::Y.lerp(up, square).normalize_or(up);
            let top = glam::Quat::from_rotation_arc(Vec3::Y, towards) * top;
            let aside = Vec2::new(top.x, top.z).length();
            let turn = if aside > 1e-6 { libm::atan2f(top.x, top.z) } else { turn };
            (turn, libm::atan2f(aside, top.y))
        } else {
            (turn, tilt)
        };
        let kind = if self.kinds.is_empty() { 0 } else { pick(&self.kinds, kind).0 as u32 };
        PlacedRow { turn, tilt, size, tint, kind, bend, stiffness, id, ..row }
    }
}

/// Two numbers 0..1 of an element: what sieves are asked with, and what it is left out by where there are more than enough.
fn through(id: u32) -> [f32; 2] {
    let [a, b, _] = hash3(id, PLACE_SEED, 0x7d).map(unit);
    [a, b]
}

/// Most candidates that one layer searches: a few seconds' work.
const MOST_CANDIDATES: f64 = 5e8;

fn most(many: f64) -> Result<u32, SpecError> {
    if many <= f64::from(MOST_PLACED) {
        return Ok(many.max(0.0).round() as u32);
    }
    let problem = format!("{many:.0} elements at once");
    Err(SpecError::new("density", problem, format!("keep to {MOST_PLACED}: a smaller area or density")))
}
