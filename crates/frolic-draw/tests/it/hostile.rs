//! Views and elements that make no sense: a sane picture or a clear refusal, never a panic or a hang.

use crate::common::{cloud, draw, look, plain, renderer};
use frolic_core::{Counter, EmitterSpec, Meter, ParticleSpec, Particles, Ramp, WorldSpec};
use frolic_draw::{
    AtlasBuilder, BackdropSpec, BillboardSpec, Blend, CameraSpec, Colour, GroundSpec, ImageSize, Library,
    LightSpec, LookSpec, Mesh, MeshVertex, Picture, Quality, Resolution, RibbonSpec, Shape, Technique,
};
use frolic_list::{ListSpec, Surroundings};
use proptest::prelude::*;

fn size(w: u32, h: u32) -> ImageSize {
    ImageSize::new(w, h).unwrap()
}

#[test]
fn cameras_that_see_nothing_are_refused() {
    let key = |camera: CameraSpec| camera.view(size(64, 64)).unwrap_err().key;
    assert_eq!(key(CameraSpec::new([1.0; 3], [1.0; 3], 40.0)), "target");
    for fov in [0.0, -10.0, 180.0, f32::NAN] {
        assert_eq!(key(CameraSpec::new([0.0; 3], [1.0; 3], fov)), "fov_degrees");
    }
    assert_eq!(key(CameraSpec::new([f32::NAN, 0.0, 0.0], [1.0; 3], 40.0)), "position");
    assert_eq!(key(CameraSpec::new([0.0; 3], [0.0, f32::INFINITY, 0.0], 40.0)), "target");
    for (w, h) in [(0, 10), (10, 0), (16_385, 1), (u32::MAX, u32::MAX)] {
        assert!(ImageSize::new(w, h).is_err());
    }
}

#[test]
fn bad_looks_are_refused() {
    let key = |change: &dyn Fn(&mut LookSpec)| {
        let mut look = LookSpec::default();
        change(&mut look);
        look.build().unwrap_err().key
    };
    assert_eq!(key(&|look| look.glow = f32::NAN), "glow");
    assert_eq!(key(&|look| look.lit = 2.0), "lit");
    assert_eq!(key(&|look| look.soft = 0.0), "soft");
    assert_eq!(key(&|look| look.opacity_over_age = Ramp::constant(1.5)), "opacity_over_age");
    assert_eq!(
        key(&|look| look.colour_over_age = Ramp::constant(Colour::new(-1.0, 0.0, 0.0))),
        "colour_over_age"
    );
    assert!(LookSpec::glowing(1.0, [(0.0, "red")]).is_err());
    let mut light = LightSpec::new([0.0; 3], Colour::new(1.0, 1.0, 1.0), f32::INFINITY);
    assert_eq!(light.check().unwrap_err().key, "power");
    light.power = 1.0;
    light.radius = 0.0;
    assert_eq!(light.check().unwrap_err().key, "radius");
}

#[test]
fn looking_straight_up_and_down_works() {
    let particles = cloud(200, [0.05, 0.2], [2.0; 3], 3);
    let look = look(Blend::Alpha);
    for y in [5.0, -5.0] {
        let view = CameraSpec::new([0.0, y, 0.0], [0.0; 3], 60.0).view(size(64, 64)).unwrap();
        let (_, frame) = draw(&[(&particles, &look)], Technique::Instanced, &view, &plain(), &mut renderer());
        assert!(frame.count(Counter::Triangles) > 0, "{y}");
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    /// The camera anywhere, inside elements too; elements of any size up to the largest there is; nothing hangs, and the
    /// picture is opaque.
    #[test]
    fn any_accepted_scene_gives_a_picture(
        eye in prop::array::uniform3(-4f32..4.0), fov in 1f32..170.0, radius in prop_oneof![Just(0f32), 1e-6f32..1e4],
        w in 1u32..80, h in 1u32..80, alpha in any::<bool>(),
    ) {
        let particles = cloud(60, [radius, radius], [3.0; 3], 8);
        let look = look(if alpha { Blend::Alpha } else { Blend::Additive });
        let view = CameraSpec::new(eye, [0.1, 0.2, 0.3], fov).view(size(w, h)).unwrap();
        let mut backdrop = BackdropSpec::default();
        backdrop.ground = Some(GroundSpec::default());
        let (image, frame) = draw(&[(&particles, &look)], Technique::Batched, &view, &backdrop, &mut renderer());
        prop_assert!(image.pixels().iter().all(|pixel| pixel[3] == 255));
        if radius == 0.0 {
            prop_assert_eq!(frame.count(Counter::Culled), frame.count(Counter::Instances));
        }
    }
}

/// A million times over a large picture: kept once a chunk, not once a tile.
#[test]
fn huge_elements_do_not_fill_the_memory() {
    let particles = cloud(3_000, [50.0, 60.0], [1.0; 3], 2);
    let look = look(Blend::Additive);
    let view = CameraSpec::new([0.0, 0.0, 6.0], [0.0; 3], 45.0).view(size(640, 400)).unwrap();
    let (_, frame) = draw(&[(&particles, &look)], Technique::Instanced, &view, &plain(), &mut renderer());
    let drawn = frame.count(Counter::Triangles) / 2;
    assert!(drawn > 1_000);
    assert_eq!(frame.count(Counter::BinRecords), drawn);
}

/// Not born yet in the picture's moment: not drawn before its place of birth.
#[test]
fn elements_not_yet_emitted_are_not_drawn() {
    let spec = ParticleSpec::new(100).life(5.0, 6.0).emitter(EmitterSpec::rate(600.0).speed(1.0, 1.0));
    let mut particles = Particles::new(&spec, 1).unwrap();
    particles.step(&WorldSpec::default().build().unwrap(), 0.1, 1, &mut Meter::new());
    let look = look(Blend::Additive);
    let (backdrop, mut meter) = (plain(), Meter::new());
    let view = CameraSpec::new([0.0, 0.0, 4.0], [0.0; 3], 45.0).view(size(64, 64)).unwrap();
    let mut scratch = frolic_list::ListScratch::default();
    // Half a step back: about half of them are there.
    let sources = [(frolic_draw::Instances::of(particles.columns(), 0.05), &look)];
    let list = scratch.list(sources, &ListSpec::default(), &view, &Surroundings::new(&backdrop), &mut meter);
    let seen = frolic_diagnostics::reference::splats(&list, &view).len();
    assert_eq!(particles.len(), 60);
    assert!((29..=31).contains(&seen), "{seen}");
}

/// A number that a broken export may hold.
fn absurd() -> impl Strategy<Value = f32> {
    prop_oneof![
        4 => -1f32..1.0,
        2 => Just(0.0f32),
        1 => prop::sample::select(vec![1e-38f32, -1e-20, 1e6, -1e9, 1e19, -3e38]),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]

    /// Triangles without area, far outside, all in one plane, around the camera: drawn or left out, in bounded time.
    #[test]
    fn absurd_meshes_are_survived(
        places in prop::collection::vec(prop::array::uniform3(absurd()), 3..14),
        triangles in prop::collection::vec(prop::array::uniform3(any::<prop::sample::Index>()), 1..24),
        eye in prop::array::uniform3(-3f32..3.0),
        blend in prop_oneof![Just(Blend::Opaque), Just(Blend::Alpha), Just(Blend::Additive)],
        technique in prop_oneof![Just(Technique::Each), Just(Technique::Batched), Just(Technique::Instanced)],
        quality in prop_oneof![Just(Quality::Full), Just(Quality::Draft)],
    ) {
        let vertex = |place: &[f32; 3]| MeshVertex {
            position: (*place).into(),
            normal: glam::Vec3::new(place[1], 1.0, place[0]),
            uv: glam::Vec2::new(place[2], place[0]),
        };
        let vertices: Vec<MeshVertex> = places.iter().map(vertex).collect();
        let triangles = triangles.iter().map(|all| all.map(|index| index.index(places.len()) as u16)).collect();
        let mut library = Library::default();
        library.meshes.insert("absurd".to_owned(), Mesh::new(vertices, triangles).unwrap().into());
        let mut look = LookSpec::solid(Shape::mesh("absurd"), "#806040").unwrap();
        look.blend = blend;
        let look = look.build_with(&library).unwrap();
        let stones = cloud(20, [0.01, 0.6], [2.0; 3], 7);
        let mut renderer = renderer();
        renderer.set_quality(quality);
        let view = CameraSpec::new(eye, [0.1, 0.2, 0.3], 60.0).view(size(96, 64)).unwrap();
        let (first, _) = draw(&[(&stones, &look)], technique, &view, &plain(), &mut renderer);
        let (again, _) = draw(&[(&stones, &look)], technique, &view, &plain(), &mut renderer);
        prop_assert_eq!(first, again);
    }
}

/// The smallest pictures, and the longest.
#[test]
fn pictures_of_any_shape_are_drawn() {
    let cloud = cloud(300, [0.05, 0.9], [3.0; 3], 5);
    let mut library = Library::default();
    let mut builder = AtlasBuilder::default();
    builder.picture("texel", Picture::paint([1, 1], |_, _| [200, 100, 50, 128]).unwrap());
    library.atlas = builder.build().unwrap().into();
    let board = LookSpec::default().shape(Shape::Billboard(BillboardSpec::new("texel")));
    let shapes = [
        look(Blend::Alpha),
        LookSpec::solid(Shape::mesh("ball"), "#806040").unwrap().build().unwrap(),
        LookSpec::solid(Shape::Ribbon(RibbonSpec::default()), "#408040").unwrap().build().unwrap(),
        board.clone().build_with(&library).unwrap(),
        board.resolution(Resolution::Quarter).build_with(&library).unwrap(),
    ];
    for (w, h) in [(1, 1), (2, 3), (16_384, 64), (64, 16_384)] {
        for quality in [Quality::Full, Quality::Draft] {
            let view = CameraSpec::new([0.3, 0.2, 6.0], [0.0; 3], 45.0).view(size(w, h)).unwrap();
            let populations: Vec<_> = shapes.iter().map(|look| (&cloud, look)).collect();
            let mut renderer = renderer();
            renderer.set_quality(quality);
            let (image, _) = draw(&populations, Technique::Instanced, &view, &plain(), &mut renderer);
            assert_eq!(image.size(), size(w, h));
        }
    }
}

/// As many populations as a list holds, and more, of hundreds of looks: each is drawn, in bounded time.
#[test]
fn tens_of_thousands_of_populations_are_drawn() {
    let one = cloud(1, [0.2, 0.4], [3.0; 3], 5);
    let looks: Vec<_> = (0..300)
        .map(|nth| {
            let mut spec = LookSpec::glowing(1.0 + nth as f32 * 0.01, [(0.0, "#ffd080")]).unwrap();
            spec.blend = if nth % 2 == 0 { Blend::Alpha } else { Blend::Additive };
            spec.resolution(if nth % 3 == 0 { Resolution::Half } else { Resolution::Auto }).build().unwrap()
        })
        .collect();
    let view = CameraSpec::new([0.3, 0.2, 6.0], [0.0; 3], 45.0).view(size(64, 64)).unwrap();
    let populations: Vec<_> = (0..65_536).map(|nth| (&one, &looks[nth % looks.len()])).collect();
    let (_, frame) = draw(&populations, Technique::Instanced, &view, &plain(), &mut renderer());
    assert_eq!(frame.count(Counter::Instances), 65_535, "what a list holds");
    assert!(frame.count(Counter::DrawCalls) > 60_000);
}
