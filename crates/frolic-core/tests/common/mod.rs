//! What several tests are set among.
#![allow(missing_docs)]

use std::sync::OnceLock;

use frolic_core::{Asset, Assets, BakeSpec, Plane, Surface, World, WorldSpec};

/// Something with a change: specs may get more fields.
pub fn with<T>(mut it: T, change: impl FnOnce(&mut T)) -> T {
    change(&mut it);
    it
}

/// A world without gravity.
pub fn weightless() -> WorldSpec {
    let mut world = WorldSpec::default();
    world.gravity = [0.0; 3];
    world
}

pub fn still() -> World {
    weightless().build().unwrap()
}

/// A ball of radius 0.8 about (0, 1, 0) as triangles ("mesh") and distances ("ball"), hills, a mask of bars and discs, a picture.
pub fn assets() -> Assets {
    static FORMS: OnceLock<Assets> = OnceLock::new();
    FORMS.get_or_init(make).clone()
}

fn make() -> Assets {
    let mut assets = Assets::default();
    let ball = Surface::ball(16).placed(0.8, 0.3, [0.0, 1.0, 0.0]).unwrap();
    assets.insert("ball", Asset::Distance(BakeSpec::new(40).bake(&ball).unwrap().into()));
    assets.insert("mesh", Asset::Surface(ball.into()));
    let plane = |width: usize, height: usize, value: fn(f32, f32) -> f32| {
        let at = |k: usize| value((k % width) as f32 / width as f32, (k / width) as f32 / height as f32);
        Asset::Plane(Plane::new(width, height, (0..width * height).map(at).collect()).unwrap().into())
    };
    assets.insert("hills", plane(48, 40, |x, y| 0.5 + 0.3 * (x * 9.0).sin() + 0.2 * (y * 13.0).cos()));
    let solid = |x: f32, y: f32| {
        let disc = |u: f32, v: f32, r: f32| (x - u).hypot(y - v) < r;
        let bar = (0.7..0.76).contains(&x) && y > 0.2;
        f32::from(u8::from(disc(0.3, 0.3, 0.14) || disc(0.5, 0.8, 0.1) || bar))
    };
    assets.insert("mask", plane(160, 120, solid));
    assets.insert("picture", plane(20, 10, |x, y| if x < 0.5 { 0.0 } else { y }));
    assets
}
