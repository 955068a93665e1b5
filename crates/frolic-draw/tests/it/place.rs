//! Sky, ground and water: what stands before what, soft edges, bloom, and lit looks.

use crate::common::{draw, plain, renderer};
use frolic_core::{Counter, EmitterSpec, Meter, ParticleSpec, Particles, Ramp, WorldSpec};
use frolic_draw::{
    BackdropSpec, Blend, CameraSpec, Colour, GroundSpec, Image, ImageSize, Instances, LightSpec, Look,
    LookSpec, Renderer, Technique, View, WaterSpec,
};
use frolic_list::{ListScratch, ListSpec, Surroundings};

/// One still element of a radius, m, at a place, m.
fn one(at: [f32; 3], radius: f32) -> Particles {
    let emitter = EmitterSpec::burst(1, 0.0).position(at).speed(0.0, 0.0);
    let spec = ParticleSpec::new(1).life(100.0, 100.0).size(radius, radius).motion(0.0, 0.0).emitter(emitter);
    let mut particles = Particles::new(&spec, 1).unwrap();
    particles.step(&WorldSpec::default().build().unwrap(), 0.1, 1, &mut Meter::new());
    particles
}

fn white(soft: f32) -> Look {
    let mut look = LookSpec::glowing(1.0, [(0.0, "#ffffff")]).unwrap();
    look.soft = soft;
    look.build().unwrap()
}

/// A view along the ground from 2 m up, without bloom.
fn low_view() -> View {
    let mut camera = CameraSpec::new([0.0, 2.0, 10.0], [0.0, 0.5, 0.0], 40.0);
    camera.bloom = 0.0;
    camera.view(ImageSize::new(160, 100).unwrap()).unwrap()
}

fn grounded() -> BackdropSpec {
    let mut backdrop = plain();
    backdrop.ground = Some(GroundSpec::default());
    backdrop
}

/// How much brighter the whole picture is for an element.
fn light(particles: &Particles, look: &Look, backdrop: &BackdropSpec) -> i64 {
    let sum = |image: &Image| image.pixels().iter().map(|p| i64::from(p[0])).sum::<i64>();
    let with = draw(&[(particles, look)], Technique::Instanced, &low_view(), backdrop, &mut renderer()).0;
    let without = draw(&[], Technique::Instanced, &low_view(), backdrop, &mut renderer()).0;
    sum(&with) - sum(&without)
}

#[test]
fn the_ground_hides_what_is_below_it() {
    assert!(light(&one([0.0, 1.0, 0.0], 0.2), &white(0.05), &grounded()) > 1000);
    assert_eq!(light(&one([0.0, -1.0, 0.0], 0.2), &white(0.05), &grounded()), 0);
    assert!(light(&one([0.0, -1.0, 0.0], 0.2), &white(0.05), &plain()) > 1000, "without ground it shows");
}

/// Sinking into the ground an element fades step by step: no height at which it pops.
#[test]
fn sinking_is_soft() {
    let heights: Vec<i64> = (0..=24)
        .map(|n| light(&one([0.0, 0.6 - 0.05 * n as f32, 0.0], 0.3), &white(0.3), &grounded()))
        .collect();
    let most = heights[0];
    assert!(most > 1000 && heights[24] == 0, "{heights:?}");
    for pair in heights.windows(2) {
        assert!(pair[1] <= pair[0] + most / 50, "{heights:?}");
        assert!(pair[0] - pair[1] < most / 5, "{heights:?}");
    }
}

#[test]
fn a_backdrop_is_never_black_or_blown_out() {
    let mut backdrop = grounded();
    backdrop.ground = Some(GroundSpec::default());
    backdrop.water = Some(WaterSpec::default());
    backdrop.sky.stars = 1.0;
    backdrop.sky.coast_degrees = 2.0;
    backdrop.check().unwrap();
    let image = draw(&[], Technique::Instanced, &low_view(), &backdrop, &mut renderer()).0;
    assert!(image.pixels().iter().all(|p| p[..3].iter().any(|&c| c > 0) && p[..3].iter().any(|&c| c < 255)));
}

#[test]
fn bad_backdrops_are_refused() {
    let key = |change: &dyn Fn(&mut BackdropSpec)| {
        let mut backdrop = BackdropSpec::default();
        change(&mut backdrop);
        backdrop.check().unwrap_err().key
    };
    assert_eq!(key(&|b| b.sky.zenith = Colour::new(f32::NAN, 0.0, 0.0)), "sky.zenith");
    assert_eq!(key(&|b| b.sky.haze = 0.0), "sky.haze");
    assert_eq!(key(&|b| b.sky.stars = -1.0), "sky.stars");
    let mut ground = GroundSpec::default();
    ground.radius = f32::INFINITY;
    assert_eq!(key(&|b| b.ground = Some(ground.clone())), "ground.radius");
    let mut water = WaterSpec::default();
    water.level = 1.0;
    assert_eq!(key(&|b| b.water = Some(water.clone())), "water.level");
}

/// Bloom moves light and makes none: far from what glows it is brighter, and the mean in linear light stays. Checked
/// through the eight bits of a faint glow, where the curve is nearly straight.
#[test]
fn bloom_spreads_light() {
    let particles = one([0.0, 0.0, 0.0], 0.5);
    let look = white(0.05);
    let picture = |bloom: f32| {
        let mut camera = CameraSpec::new([0.0, 0.0, 10.0], [0.0; 3], 40.0);
        camera.bloom = bloom;
        let view = camera.view(ImageSize::new(160, 104).unwrap()).unwrap();
        draw(&[(&particles, &look)], Technique::Instanced, &view, &plain(), &mut renderer()).0
    };
    let (sharp, soft) = (picture(0.0), picture(0.3));
    let at = |image: &Image, x: usize, y: usize| image.pixels()[y * 160 + x][0];
    assert!(at(&soft, 80, 52) < at(&sharp, 80, 52), "the middle gives light away");
    assert!(at(&soft, 80 + 18, 52) > at(&sharp, 80 + 18, 52), "its surroundings gain");
    assert!(at(&soft, 2, 2) - at(&sharp, 2, 2) <= 1, "far away hardly anything arrives");
    // Left and right, above and below alike.
    for d in [12, 16, 20] {
        let sides =
            [at(&soft, 79 - d, 52), at(&soft, 80 + d, 52), at(&soft, 80, 51 - d), at(&soft, 80, 52 + d)];
        let (least, most) = (sides.iter().min().unwrap(), sides.iter().max().unwrap());
        assert!(most - least <= 2, "{d}: {sides:?}");
    }
}

/// Light of a lamp on lit elements falls off as it says; what is not lit does not care.
#[test]
fn lamps_light_what_is_lit() {
    let brightness = |distance: f32, lit: f32| {
        let particles = one([distance, 0.0, 0.0], 0.2);
        let mut look = LookSpec::default();
        look.lit = lit;
        let look = look.build().unwrap();
        let lamp = [LightSpec::new([0.0; 3], Colour::new(1.0, 1.0, 1.0), 2.0)];
        let view = CameraSpec::new([0.0, 0.0, 8.0], [0.0; 3], 40.0).view(ImageSize::default()).unwrap();
        let (mut scratch, mut meter) = (ListScratch::default(), Meter::new());
        let backdrop = plain();
        let sources = [(Instances::of(particles.columns(), 0.0), &look)];
        let around = Surroundings::new(&backdrop).lights(&lamp);
        let list = scratch.list(sources, &ListSpec::default(), &view, &around, &mut meter);
        frolic_diagnostics::reference::splats(&list, &view)[0].light[0]
    };
    let ambient = 0.02;
    for distance in [0.5f32, 1.0, 2.0] {
        let want = 2.0 / (distance * distance + 0.25) + ambient;
        assert!((brightness(distance, 1.0) - want).abs() < 0.01, "{distance}");
        assert_eq!(brightness(distance, 0.0), 1.0);
    }
}

/// What comes close to the camera fades and does not fill the picture at one blow.
#[test]
fn elements_near_the_camera_fade() {
    let look = white(0.05);
    let light = |z: f32| {
        let mut camera = CameraSpec::new([0.0, 0.0, 10.0], [0.0; 3], 40.0);
        camera.bloom = 0.0;
        let view = camera.view(ImageSize::new(80, 80).unwrap()).unwrap();
        let particles = one([0.0, 0.0, z], 0.05);
        let (image, frame) =
            draw(&[(&particles, &look)], Technique::Instanced, &view, &plain(), &mut renderer());
        (image.pixels()[40 * 80 + 40][0], frame.count(Counter::Culled))
    };
    let near: Vec<u8> = [9.3f32, 9.6, 9.8, 9.94].iter().map(|&z| light(z).0).collect();
    assert!(near.windows(2).all(|pair| pair[1] < pair[0]), "{near:?}");
    assert_eq!(light(9.96).1, 1, "within 5 cm it is gone");
    assert_eq!(light(10.5).1, 1, "behind the camera as well");
}

/// A draw list of many small populations: a chunk spans many draw calls, and each keeps its own look.
#[test]
fn many_populations_share_a_picture() {
    let looks: Vec<Look> = (0..300)
        .map(|n| {
            let mut look = LookSpec::default();
            look.blend = if n % 3 == 0 { Blend::Alpha } else { Blend::Additive };
            look.colour_over_age = Ramp::constant(Colour::new(n as f32 / 300.0, 0.2, 0.1));
            look.build().unwrap()
        })
        .collect();
    let particles: Vec<Particles> =
        (0..300).map(|n| one([n as f32 / 100.0 - 1.5, (n % 7) as f32 / 7.0, 0.0], 0.05)).collect();
    let populations: Vec<(&Particles, &Look)> = particles.iter().zip(&looks).collect();
    let picture = |technique| {
        let mut renderer = Renderer::new();
        draw(&populations, technique, &low_view(), &plain(), &mut renderer)
    };
    let (instanced, frame) = picture(Technique::Instanced);
    assert_eq!(frame.count(Counter::DrawCalls), 300);
    assert!(picture(Technique::Each).0 == instanced);
    assert!(picture(Technique::Batched).0 == instanced);
}
