//! What a step of a population is told, as `shaders/told.wgsl` and `step.wgsl` lay it out.

use frolic_core::backend::{
    Ball, Due, EmitterAxes, Felt, Hindrances, MOST_FIELDS, MOST_SOLID, MOST_WAVES, Motion, Wave,
};
use frolic_core::{EmitterSpec, ParticleSpec, ShapeSpec};

use crate::device::Words;
use crate::grids::Held;
use crate::numbers::CORNERS;

/// Words of a step's uniform.
pub(crate) const STEP_WORDS: u64 =
    52 + MOST_SOLID as u64 * (16 + 8) + 16 + MOST_FIELDS as u64 * 12 + MOST_WAVES as u64 * 8;
/// Words of an emitter.
pub(crate) const EMITTER_WORDS: u64 = 40;
/// An emitter's shape where its newborn are written down.
const WRITTEN_DOWN: u32 = 7;

/// What of a step is the same for all elements.
pub(crate) fn step_words(words: &mut Words, motion: &Motion, spec: &ParticleSpec) {
    words.float(&[motion.dt, motion.keep, motion.reach, motion.drag]);
    let [x, y, z] = motion.push;
    words.float(&[x, y, z, motion.rest()]);
    let (origin, per_metre, strength) =
        motion.gusts.map_or(([0.0; 3], 0.0, 0.0), |gusts| (gusts.origin, gusts.per_metre, gusts.strength));
    words.float(&origin).float(&[per_metre]);
    let (place, pull, radius) =
        motion.attractor.map_or(([0.0; 3], 0.0, 0.0), |point| (point.position, point.strength, point.radius));
    words.float(&[strength, pull, radius, 0.0]);
    words.float(&place).float(&[0.0]);
    let (along, base) = motion.gusts.map_or(([0.0; 3], [0.0; 3]), |gusts| (gusts.along, gusts.base));
    words.float(&along).float(&[0.0]).float(&base).float(&[0.0]);
    words.float(&[spec.life.min, spec.life.max, spec.size.min, spec.size.max]);
}

/// What is met: obstacles and shapes, read from those grids; and who collects. `firsts`: number of the first birth, and place of the first
/// newborn that is written down. `births`: how many events a birth is. `trail`: places, which is the newest, whether it is kept
/// now.
pub(crate) fn solid_words(
    words: &mut Words,
    solids: &Hindrances,
    grids: &[Held],
    firsts: [u32; 2],
    births: u32,
    trail: [u32; 3],
    collectors: &[Ball],
) {
    words.uint(&[CORNERS, solids.obstacles as u32, collectors.len() as u32]).float(&[solids.short_way]);
    words.uint(&firsts).uint(&[solids.flat, births]);
    words.uint(&trail).uint(&[0]);
    for nth in 0..MOST_SOLID {
        match solids.all.get(nth) {
            Some(solid) => {
                words.float(&solid.place).float(&solid.more);
                words.float(&[solid.kind as f32, solid.bounce, solid.friction, solid.touch as f32]);
                let grid = solid.grid.and_then(|grid| grids.get(grid));
                let [x, y, z] = grid.map_or([0; 3], |grid| grid.points.map(|points| points as u32));
                words.uint(&[x, y, z, grid.map_or(0, |grid| grid.row)]);
            }
            None => {
                words.uint(&[0; 16]);
            }
        }
    }
    for nth in 0..MOST_SOLID {
        let [to, moved] = collectors.get(nth).copied().unwrap_or_default();
        words.float(&to).float(&moved);
    }
}

/// What the fields of a step are, one by one.
pub(crate) fn field_words(words: &mut Words, motion: &Motion, felt: &[Felt], waves: &[Wave]) {
    let felt = &felt[..felt.len().min(MOST_FIELDS)];
    let [least, most] = motion.speed_limits.unwrap_or([0.0, f32::MAX]);
    words.float(&motion.wind).float(&[motion.drag_square]);
    words.float(&motion.fall).float(&[felt.len() as f32]);
    words.float(&motion.free).float(&[f32::from(u8::from(motion.speed_limits.is_some()))]);
    words.float(&[least, most]).float(&motion.start);
    for nth in 0..MOST_FIELDS {
        match felt.get(nth) {
            Some(field) => {
                words.float(&field.middle).float(&field.a);
                words.float(&field.b).float(&[field.kind as f32]);
            }
            None => {
                words.float(&[0.0; 12]);
            }
        }
    }
    for nth in 0..MOST_WAVES {
        let [turns, push] = waves.get(nth).copied().unwrap_or_default();
        words.float(&turns).float(&push);
    }
}

/// One emitter's births of a step; `before`: those of emitters before it. `row`: where its newborn start, if they are written down.
pub(crate) fn emitter_words(
    words: &mut Words,
    emitter: &EmitterSpec,
    axes: &EmitterAxes,
    due: &Due,
    before: u64,
    row: Option<u32>,
) {
    let (shape, size) = shape_words(&emitter.shape);
    let shape = if row.is_some() { WRITTEN_DOWN } else { shape };
    words.float(&[0.0, due.first_age as f32, due.age_step as f32]).uint(&[shape]);
    // Of a fan the middle is where a cone's is, and the side where its first axis is; angles stand for cosines.
    let (aim, inner, rim) = match axes.fan {
        None => (axes.aim, axes.cos_hollow, axes.cos_spread),
        Some(([middle, side], [least, most])) => ([side, axes.aim[1], middle], least, most),
    };
    let turned = |axis: glam::Vec3| due.turn.map_or(axis, |turn| turn * axis);
    words.vec(due.position, inner).vec(due.velocity, emitter.keep_velocity);
    let speed = emitter.speed;
    aim_words(words, aim.map(turned), [rim, speed.min, speed.max], axes.face.map(turned), size);
    words.uint(&[before as u32, u32::from(axes.fan.is_some()), row.unwrap_or(0), 0]);
}

/// The axes of an aim and of a shape, with what comes with each, as `shaders/aim.wgsl` lays them out.
pub(crate) fn aim_words(
    words: &mut Words,
    aim: [glam::Vec3; 3],
    aim_with: [f32; 3],
    face: [glam::Vec3; 3],
    face_with: [f32; 3],
) {
    for (axis, with) in aim.into_iter().zip(aim_with).chain(face.into_iter().zip(face_with)) {
        words.vec(axis, with);
    }
}

/// Kind and size of a shape that shaders know.
pub(crate) fn shape_words(shape: &ShapeSpec) -> (u32, [f32; 3]) {
    match *shape {
        ShapeSpec::Disc { radius, .. } => (1, [radius, 0.0, 0.0]),
        ShapeSpec::Sphere { radius } => (2, [radius, 0.0, 0.0]),
        ShapeSpec::SphereSurface { radius } => (3, [radius, 0.0, 0.0]),
        ShapeSpec::Box { size } => (4, size),
        ShapeSpec::Line { to } => (5, to),
        ShapeSpec::Ring { radius, .. } => (6, [radius, 0.0, 0.0]),
        _ => (0, [0.0; 3]),
    }
}
