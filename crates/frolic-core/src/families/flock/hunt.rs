//! Hunters: each chooses prey that is near and alone, heads it off, catches it, and rests.

use glam::Vec3;
use rayon::prelude::*;

use super::BodyColumns;
use super::spec::HuntSpec;
use super::steer::Wishes;
use super::targets::OtherElements;
use crate::foundations::columns::remove_sorted;
use crate::foundations::error::SpecError;
use crate::neighbours::Neighbours;

/// Prey that a hunter has caught.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[non_exhaustive]
pub struct Catch {
    /// Its place in the columns of its population.
    pub element: u32,
    /// Number (id) of the hunter.
    pub hunter: u32,
}

/// Share of its score that the present quarry needs: hunters do not dither.
pub const LOYALTY: f32 = 0.6;

/// No quarry.
const NONE: u32 = u32::MAX;

/// State of the hunters of a flock, in the order of its columns.
#[derive(Debug, Clone)]
pub(super) struct Hunters {
    spec: HuntSpec,
    /// Rest that is left, in seconds.
    pub(super) rest: Vec<f32>,
    /// Number of the prey that each chases, or none.
    pub(super) quarry: Vec<u32>,
    /// Direction to where each heads, of unit length; 0 without prey.
    chase: Vec<Vec3>,
    /// Prey in reach: element and its number.
    found: Vec<Option<Found>>,
    catches: Vec<Catch>,
}

/// What a hunter found.
#[derive(Debug, Clone, Copy)]
struct Found {
    element: u32,
    id: u32,
    way: Vec3,
    velocity: Vec3,
}

impl Hunters {
    pub(super) fn new(spec: &HuntSpec) -> Self {
        Self {
            spec: spec.clone(),
            rest: Vec::new(),
            quarry: Vec::new(),
            chase: Vec::new(),
            found: Vec::new(),
            catches: Vec::new(),
        }
    }

    pub(super) fn retune(&mut self, spec: &HuntSpec) {
        self.spec = spec.clone();
    }

    pub(super) fn push(&mut self) {
        self.rest.push(0.0);
        self.quarry.push(NONE);
    }

    pub(super) fn arrange(
        &mut self,
        near: &Neighbours,
        floats: &mut Vec<f32>,
        numbers: &mut Vec<u32>,
    ) -> Result<(), SpecError> {
        near.arrange(0, &mut self.rest, floats)?;
        near.arrange(0, &mut self.quarry, numbers)
    }

    pub(super) fn remove_sorted(&mut self, dead: &[u32]) {
        remove_sorted(&mut self.rest, dead);
        remove_sorted(&mut self.quarry, dead);
    }

    pub(super) fn catches(&self) -> &[Catch] {
        &self.catches
    }

    /// Adds the chase to the wishes of elements from a place on.
    pub(super) fn pull(&self, from: usize, count: usize, wishes: &mut Wishes) {
        for i in 0..count {
            let way = self.chase[from + i] * self.spec.weight;
            for axis in 0..3 {
                wishes.way[axis][i] += way[axis];
            }
        }
    }

    /// What a hunter is about: hunts 0, chases 0.5, digests 1.
    pub(super) fn state(&self, nth: usize) -> f32 {
        match (self.rest.get(nth), self.quarry.get(nth)) {
            (Some(rest), _) if *rest > 0.0 => 1.0,
            (_, Some(quarry)) if *quarry != NONE => 0.5,
            _ => 0.0,
        }
    }

    /// Chooses prey, catches what is in reach, and sets where each heads.
    pub(super) fn choose(&mut self, bodies: &BodyColumns, others: &[OtherElements<'_>], dt: f32) {
        self.catches.clear();
        let count = bodies.len();
        self.chase.clear();
        self.chase.resize(count, Vec3::ZERO);
        self.rest.iter_mut().for_each(|rest| *rest = (*rest - dt).max(0.0));
        let Some(prey) = others.iter().find(|other| other.name == self.spec.prey) else { return };
        let (spec, rest, quarry) = (&self.spec, &self.rest, &self.quarry);
        self.found.resize(count, None);
        self.found.par_iter_mut().enumerate().for_each(|(nth, found)| {
            *found = if rest[nth] > 0.0 { None } else { search(spec, bodies.place(nth), quarry[nth], prey) };
        });
        for nth in 0..count {
            let Some(found) = self.found[nth] else {
                self.quarry[nth] = NONE;
                continue;
            };
            self.quarry[nth] = found.id;
            let distance = found.way.length();
            // One prey has one hunter: the first in the order of columns.
            let is_caught = self.catches.iter().any(|other| other.element == found.element);
            if distance <= self.spec.reach && !is_caught {
                self.catches.push(Catch { element: found.element, hunter: bodies.id()[nth] });
                (self.rest[nth], self.quarry[nth]) = (self.spec.digest, NONE);
                continue;
            }
            // Heads for where the prey will be when it is there, at most a second ahead.
            let closing = (bodies.velocity_of(nth) - found.velocity).length().max(1e-6);
            let ahead = found.way + found.velocity * (distance / closing).min(1.0);
            self.chase[nth] = ahead.normalize_or_zero();
        }
    }
}

/// The best prey within sight of a place: near, and with few around it.
fn search(spec: &HuntSpec, at: Vec3, quarry: u32, prey: &OtherElements<'_>) -> Option<Found> {
    let [px, py, pz] = prey.position;
    let most = spec.sight * spec.sight;
    let mut best: Option<(f32, usize)> = None;
    for nth in 0..px.len().min(py.len()).min(pz.len()) {
        let way = Vec3::new(px[nth], py[nth], pz[nth]) - at;
        let square = way.length_squared();
        if square > most {
            continue;
        }
        let around = prey.around.get(nth).copied().unwrap_or(0.0);
        let mut score = square.sqrt() * (1.0 + spec.isolation * around * 0.1);
        if prey.id.get(nth) == Some(&quarry) {
            score *= LOYALTY;
        }
        if best.is_none_or(|(least, _)| score < least) {
            best = Some((score, nth));
        }
    }
    let (_, nth) = best?;
    let velocity = prey.velocity.map(|column| column.get(nth).copied().unwrap_or(0.0));
    Some(Found {
        element: nth as u32,
        id: prey.id.get(nth).copied().unwrap_or(nth as u32),
        way: Vec3::new(px[nth], py[nth], pz[nth]) - at,
        velocity: Vec3::from(velocity),
    })
}
