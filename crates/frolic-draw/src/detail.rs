//! Level of detail: distant elements thin out and shrink, each at its own distance, so that there is no visible edge and no popping.

use derive_setters::Setters;
pub use frolic_core::random::FADE;
pub(crate) use frolic_core::random::pair as random;
use frolic_core::{Span, SpecError, within};
use serde::{Deserialize, Serialize};

/// Detail over distance and size.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Setters)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields, default)]
#[non_exhaustive]
pub struct DetailSpec {
    /// Distances in metres, 0 to 1e9, between which elements appear one by one; nearer ones are not drawn. For coarse stand-ins that appear
    /// where the elements they replace vanish. Default: 0 to 0: all are drawn.
    #[setters(skip)]
    pub from: Span,
    /// Distance in metres beyond which nothing is drawn, 0.01 to 1e9. Default: 1e9: no limit.
    #[setters(skip)]
    pub reach: f32,
    /// Share of the reach over which elements vanish one by one, 0.001 to 1. Default: 0.3.
    pub edge: f32,
    /// Radius on the screen, in pixels, below which elements thin out, 0 to 1000. The remaining ones grow to keep the covered area. Default: 0:
    /// never.
    pub thin_below: f32,
    /// Radius on the screen, in pixels, below which the coarse form is drawn (fewer segments, or the coarse mesh), 0 to 1e6. Each element
    /// switches at its own size. Default: 0: never.
    pub coarse_below: f32,
    /// Radius on the screen, in pixels, below which a solid mesh is drawn as a spot of the same colour that covers the same area, 0 to 100; from
    /// a third of it on, elements thin out even without `thin_below`. Each element switches at its own size. Default: 1.5. 0: never.
    pub tiny_below: f32,
}

/// Distance that no scene reaches.
const ENDLESS: f32 = 1e9;

impl Default for DetailSpec {
    fn default() -> Self {
        Self {
            from: Span::new(0.0, 0.0),
            reach: ENDLESS,
            edge: 0.3,
            thin_below: 0.0,
            coarse_below: 0.0,
            tiny_below: 1.5,
        }
    }
}

impl DetailSpec {
    /// Draws nothing beyond `reach` metres. Elements vanish one by one over the last part, `edge`, a share of the reach.
    pub fn reach(reach: f32, edge: f32) -> Self {
        Self { reach, edge, ..Self::default() }
    }

    /// Elements appear between two distances in metres.
    pub fn from(mut self, nearest: f32, all: f32) -> Self {
        self.from = Span::new(nearest, all);
        self
    }

    pub(crate) fn check(&self) -> Result<(), SpecError> {
        self.from.check("from", 0.0, ENDLESS, "m")?;
        within("reach", self.reach, 0.01, ENDLESS, "m")?;
        within("edge", self.edge, 0.001, 1.0, "")?;
        within("thin_below", self.thin_below, 0.0, 1000.0, "pixels")?;
        within("coarse_below", self.coarse_below, 0.0, 1e6, "pixels")?;
        within("tiny_below", self.tiny_below, 0.0, 100.0, "pixels")
    }
}

/// A checked [`DetailSpec`].
#[derive(Debug, Clone, Copy, PartialEq)]
#[non_exhaustive]
pub struct Detail {
    /// Distance in metres below which nothing is drawn.
    pub from: f32,
    /// Length in metres over which elements appear.
    pub onset: f32,
    /// Distance in metres beyond which nothing is drawn.
    pub reach: f32,
    /// Length of the soft edge in metres.
    pub edge: f32,
    /// Radius on the screen, in pixels, below which elements thin out.
    pub thin_below: f32,
    /// Radius on the screen, in pixels, below which the coarse form is drawn.
    pub coarse_below: f32,
    /// Radius on the screen, in pixels, below which a mesh is drawn as a spot.
    pub tiny_below: f32,
    /// Share of elements that are drawn at all.
    pub density: f32,
}

/// Level of detail of one drawn element.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Kept {
    /// Factor on the size, above 1 where the element stands for others.
    pub size: f32,
    /// 1, or less while the element vanishes.
    pub left: f32,
    /// Number of elements that it stands for, 1 or more.
    pub stands_for: f32,
    /// Form that is drawn.
    pub level: Level,
}

impl Kept {
    /// Full detail.
    pub(crate) const FULL: Self = Self { size: 1.0, left: 1.0, stands_for: 1.0, level: Level::Full };
}

/// Level of detail, as `frolic draw --show detail` colours it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Level {
    /// Full detail.
    #[default]
    Full,
    /// Coarse form.
    Coarse,
    /// Thinned out: the element stands for several.
    Thinned,
    /// A mesh drawn as a spot.
    Tiny,
}

/// Radius in pixels below which elements thin out at half detail.
const EASED: f32 = 0.5;

/// Part of the size of a spot below which elements thin out.
const STAND_FOR: f32 = 1.0 / 3.0;

/// Least share of elements that are kept because of their size.
const LEAST_KEPT: f32 = 0.02;

impl Detail {
    pub(crate) fn new(spec: &DetailSpec) -> Self {
        let edge = spec.reach * spec.edge;
        let DetailSpec { from, reach, thin_below, coarse_below, tiny_below, .. } = *spec;
        // A sudden start is spread over a millimetre.
        let onset = (from.max - from.min).max(0.001);
        Self {
            from: from.max - onset,
            onset,
            reach,
            edge,
            thin_below,
            coarse_below,
            tiny_below,
            density: 1.0,
        }
    }

    /// Detail reduced by the frame budget: `detail` shortens the reach and raises the pixel limits, `density` is the share of elements that
    /// are drawn. Elements of a few pixels thin out even where the spec has no limit.
    pub(crate) fn eased(spec: &DetailSpec, detail: f32, density: f32) -> Self {
        let less = 1.0 / detail.clamp(0.05, 1.0);
        let reach = if spec.reach < ENDLESS { spec.reach / less } else { spec.reach };
        let from = Span::new(spec.from.min / less, spec.from.max / less);
        let small = (less - 1.0) * EASED;
        let thin_below = (spec.thin_below * less).max(small);
        let coarse_below = (spec.coarse_below * less).max(small * 2.0);
        let tiny_below = spec.tiny_below * less;
        Self {
            density: density.clamp(0.02, 1.0),
            ..Self::new(&DetailSpec { from, reach, thin_below, coarse_below, tiny_below, ..*spec })
        }
    }

    /// The detail of solid meshes: those that are drawn as spots thin out.
    pub(crate) fn with_tiny(self) -> Self {
        Self { thin_below: self.thin_below.max(self.tiny_below * STAND_FOR), ..self }
    }

    /// Whether a mesh with this random number and radius on the screen, in pixels, is drawn as a spot.
    #[inline(always)]
    pub(crate) fn is_tiny(&self, random: f32, radius: f32) -> bool {
        radius < self.tiny_below * (0.75 + 0.5 * random)
    }

    /// Whether any element may lose detail.
    #[inline(always)]
    pub fn is_active(&self) -> bool {
        self.ends() || self.thin_below > 0.0 || self.coarse_below > 0.0 || self.density < 1.0
    }

    /// Most elements that one may stand for.
    pub(crate) fn most_stood_for(&self) -> f32 {
        let small = if self.thin_below > 0.0 { LEAST_KEPT } else { 1.0 };
        1.0 / (small * self.density)
    }

    /// Whether detail depends on distance.
    #[inline(always)]
    pub(crate) fn ends(&self) -> bool {
        self.reach < ENDLESS || self.from + self.onset > 0.0
    }

    /// Level of detail of an element with this random number, distance in metres and radius on the screen in pixels. `None`: not drawn.
    ///
    /// If a share p of the elements is kept, those with random numbers below p stay. A vanishing element shrinks to nothing over a seventh of
    /// the edge or the onset, or of p where elements thin out. Elements that stand for others grow by 1/√p.
    #[inline(always)]
    pub fn keep(&self, random: f32, distance: f32, pixels: f32) -> Option<Kept> {
        if !self.is_active() {
            return Some(Kept::FULL);
        }
        // Left out at any distance and size.
        if random >= self.density * (1.0 + FADE) {
            return None;
        }
        let coming = (distance - self.from) / self.onset;
        let there = ((self.reach - distance) / self.edge).min(coming).min(1.0);
        let small =
            if self.thin_below > 0.0 { (pixels / self.thin_below).clamp(LEAST_KEPT, 1.0) } else { 1.0 };
        let small = small * self.density;
        let in_reach = if there < 1.0 { (there * (1.0 + FADE) - random) / FADE } else { 1.0 };
        let chosen = if small < 1.0 { (small * (1.0 + FADE) - random) / (FADE * small) } else { 1.0 };
        let left = in_reach.min(chosen);
        // Written so that NaN is not drawn.
        let drawn = left > 0.0;
        if !drawn {
            return None;
        }
        let left = left.min(1.0);
        let size = left / small.sqrt();
        let level = if small < 1.0 {
            Level::Thinned
        } else if pixels < self.coarse_below * (0.75 + 0.5 * random) {
            Level::Coarse
        } else {
            Level::Full
        };
        Some(Kept { size, left, stands_for: 1.0 / small, level })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn kept(detail: &Detail, distance: f32, pixels: f32) -> Vec<Option<Kept>> {
        (0..4000).map(|id| detail.keep(random(id)[0], distance, pixels)).collect()
    }

    /// The number falls evenly over the edge, and the covered area with it: no line, no jump.
    #[test]
    fn the_edge_is_soft() {
        let detail = Detail::new(&DetailSpec::reach(100.0, 0.5));
        let covered = |distance: f32| {
            let sizes = kept(&detail, distance, 50.0).into_iter().flatten();
            sizes.map(|kept| f64::from(kept.size * kept.size)).sum::<f64>() / 4000.0
        };
        assert_eq!(covered(49.0), 1.0);
        let mut before = 1.0;
        for step in 0..=100 {
            let now = covered(50.0 + step as f32 * 0.5);
            assert!(now <= before + 1e-9 && before - now < 0.03, "{step}: {before} {now}");
            before = now;
        }
        assert_eq!(before, 0.0);
    }

    /// A vanishing element only ever shrinks, and does so over a distance.
    #[test]
    fn an_element_does_not_pop() {
        let detail = Detail::new(&DetailSpec::reach(100.0, 0.5));
        for id in 0..200 {
            let mut before = 1.0;
            for step in 0..1000 {
                let distance = 40.0 + step as f32 * 0.07;
                let size = detail.keep(random(id)[0], distance, 9.0).map_or(0.0, |kept| kept.size);
                assert!(size <= before && before - size < 0.05, "{id} at {distance}: {before} {size}");
                before = size;
            }
        }
    }

    /// Elements that appear where others vanish make up for the area that those no longer cover, and each only ever grows.
    #[test]
    fn elements_that_stay_cover_for_thinned_ones() {
        let near = Detail::new(&DetailSpec::reach(60.0, 0.5));
        let far = Detail::new(&DetailSpec::default().from(30.0, 60.0));
        let covered = |detail: &Detail, distance: f32| {
            let sizes = kept(detail, distance, 9.0).into_iter().flatten();
            sizes.map(|kept| f64::from(kept.size * kept.size)).sum::<f64>() / 4000.0
        };
        assert_eq!((covered(&far, 29.9), covered(&far, 60.1)), (0.0, 1.0));
        for step in 0..=100 {
            let distance = 25.0 + step as f32 * 0.4;
            let both = covered(&near, distance) + covered(&far, distance);
            assert!((0.9..1.1).contains(&both), "{distance}: {both}");
        }
        for id in 0..200 {
            let size = |distance: f32| far.keep(random(id)[0], distance, 9.0).map_or(0.0, |kept| kept.size);
            let sizes: Vec<f32> = (0..1000).map(|step| size(29.0 + step as f32 * 0.032)).collect();
            assert!(sizes.windows(2).all(|pair| (0.0..0.02).contains(&(pair[1] - pair[0]))), "{id}");
        }
        // Suddenly, over the last millimetre.
        let step = Detail::new(&DetailSpec::default().from(5.0, 5.0));
        assert!(kept(&step, 4.99, 9.0).iter().all(Option::is_none));
        assert!(kept(&step, 5.01, 9.0).iter().flatten().all(|kept| kept.left == 1.0));
        // With reduced detail both ends move together.
        let eased = Detail::eased(&DetailSpec::reach(60.0, 0.5).from(20.0, 30.0), 0.5, 1.0);
        assert_eq!((eased.from, eased.onset, eased.reach), (10.0, 5.0, 30.0));
    }

    /// At half the size on the screen: a share of the elements, each larger, covers the same area.
    #[test]
    fn thinning_keeps_what_is_covered() {
        let detail = Detail::new(&DetailSpec::default().thin_below(4.0));
        for pixels in [3.0f32, 2.0, 1.0, 0.5] {
            let sizes: Vec<f32> = kept(&detail, 10.0, pixels).into_iter().flatten().map(|k| k.size).collect();
            let covered = sizes.iter().map(|size| size * size).sum::<f32>() / 4000.0;
            assert!((0.9..1.15).contains(&covered), "{pixels}: {covered}");
            let share = sizes.len() as f32 / 4000.0;
            assert!((share - pixels / 4.0 * (1.0 + FADE)).abs() < 0.03, "{pixels}: {share}");
        }
    }

    /// Half of the elements, each larger, cover the same area at any distance; with full detail and all elements nothing changes.
    #[test]
    fn easing_keeps_what_is_covered() {
        let spec = DetailSpec::default();
        assert_eq!(Detail::eased(&spec, 1.0, 1.0), Detail::new(&spec));
        for (detail, density) in [(1.0, 0.5), (0.5, 1.0), (0.4, 0.3)] {
            let eased = Detail::eased(&spec, detail, density);
            for pixels in [30.0f32, 1.5] {
                let all = kept(&eased, 10.0, pixels);
                let sizes: Vec<f32> = all.into_iter().flatten().map(|k| k.size).collect();
                let covered = sizes.iter().map(|size| size * size).sum::<f32>() / 4000.0;
                assert!((0.9..1.15).contains(&covered), "{detail} {density} at {pixels}: {covered}");
                let share = sizes.len() as f32 / 4000.0;
                assert!(share <= density * (1.0 + FADE) + 0.03, "{share}");
            }
        }
        let near = Detail::eased(&DetailSpec::reach(100.0, 0.3), 0.5, 1.0);
        assert!((near.reach - 50.0).abs() < 1e-3);
    }

    #[test]
    fn without_limits_all_is_drawn_in_full() {
        let detail = Detail::new(&DetailSpec::default());
        assert!(!detail.is_active());
        assert!(kept(&detail, 1e8, 1e-3).iter().all(|k| *k == Some(Kept::FULL)));
    }
}
