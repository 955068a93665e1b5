//! Records that are kept from frame to frame: whatever changes, the picture is that of a renderer that keeps nothing.

use crate::common::{plain, renderer};
use frolic_core::{Counter, Meter};
use frolic_draw::{
    BackdropSpec, Blend, CameraSpec, Colour, Image, ImageSize, Instances, LightSpec, Look, LookSpec, Mesh,
    Renderer, Shape, Sprite, SunSpec, Technique,
};
use frolic_list::{ListScratch, ListSpec, Surroundings};

/// All that a picture is made from.
#[derive(Clone)]
struct Scene {
    position: [Vec<f32>; 3],
    size: Vec<f32>,
    turn: [Vec<f32>; 2],
    tint: Vec<f32>,
    id: Vec<u32>,
    sprites: Vec<Sprite>,
    look: LookSpec,
    library: frolic_draw::Library,
    detail: [f32; 2],
    backdrop: BackdropSpec,
    lights: Vec<LightSpec>,
    sun: SunSpec,
    camera: CameraSpec,
    size_of: [u32; 2],
    technique: Technique,
    time: f32,
}

impl Scene {
    fn new() -> Self {
        let count = 70;
        let at = |step: f32| (0..count).map(|n| (n as f32 * step).fract() * 3.0 - 1.5).collect::<Vec<f32>>();
        let mut look = LookSpec::solid(Shape::mesh("stone"), "#c08040").unwrap();
        look.tints = vec![Colour::new(1.0, 0.5, 0.4), Colour::new(0.4, 0.9, 1.0)];
        let mut scene = Self {
            position: [at(0.618), at(0.414), at(0.732)],
            size: vec![0.2; count],
            turn: [at(0.3), at(0.9)],
            tint: (0..count).map(|n| n as f32 / count as f32).collect(),
            id: (0..count as u32).collect(),
            sprites: vec![Sprite { size: [0.5, 0.4], tint: [0.2, 0.9, 0.3, 0.6], ..Sprite::default() }],
            look,
            library: Default::default(),
            detail: [1.0; 2],
            backdrop: plain(),
            lights: vec![LightSpec::new([0.5, 1.0, 1.0], Colour::new(1.0, 0.6, 0.2), 3.0)],
            sun: SunSpec::default().shadow_map(256),
            camera: CameraSpec::new([0.3, 0.2, 6.0], [0.0; 3], 45.0),
            size_of: [150, 90],
            technique: Technique::Instanced,
            time: 0.0,
        };
        scene.stone("box");
        scene
    }

    /// Sets the mesh of the look: each time a new one, perhaps where an older one was in memory.
    fn stone(&mut self, like: &str) {
        let mesh = Mesh::clone(&Mesh::named(like).unwrap());
        self.library.meshes.insert("stone".to_owned(), mesh.into());
    }

    fn look(&self) -> Look {
        let mut look = self.look.build_with(&self.library).unwrap();
        look.ease(self.detail[0], self.detail[1]);
        look
    }

    fn draw(&self, looks: &[Look; 2], renderer: &mut Renderer) -> (Image, u64) {
        let instances = Instances::at(self.position.each_ref().map(|column| &column[..]))
            .and_then(|all| all.sized(&self.size))
            .and_then(|all| all.turned(&self.turn[0], &self.turn[1]))
            .and_then(|all| all.tinted(&self.tint))
            .and_then(|all| all.keyed(&self.id))
            .unwrap();
        let (mut scratch, mut meter) = (ListScratch::default(), Meter::new());
        meter.begin_frame();
        let view = self.camera.view(ImageSize::new(self.size_of[0], self.size_of[1]).unwrap()).unwrap();
        let around =
            Surroundings::new(&self.backdrop).lights(&self.lights).sun(Some(&self.sun)).time(self.time);
        let sources = [(instances, &looks[0]), (Instances::sprites(&self.sprites), &looks[1])];
        let list = scratch.list(sources, &ListSpec::new(self.technique), &view, &around, &mut meter);
        let mut image = Image::new(view.size());
        renderer.render(&list, &view, &self.backdrop, &mut image, &mut meter);
        (image, meter.end_frame().count(Counter::ChunksKept))
    }
}

/// A change of one input.
type Change = fn(&mut Scene);

const CHANGES: [(&str, Change); 24] = [
    ("first place", |it| it.position[0][0] += 0.01),
    ("last place", |it| it.position[2][69] += 0.01),
    ("one bit of a place", |it| it.position[1][50] = f32::from_bits(it.position[1][50].to_bits() + 1)),
    ("size", |it| it.size[60] *= 1.1),
    ("turn", |it| it.turn[0][65] += 0.2),
    ("tilt", |it| it.turn[1][66] += 0.2),
    ("tint", |it| it.tint[67] = 0.9 - it.tint[67] * 0.5),
    ("key", |it| it.id[68] ^= 0x55),
    ("count", |it| {
        it.position.iter_mut().for_each(|column| column.truncate(69));
        it.size.truncate(69);
        it.turn.iter_mut().for_each(|column| column.truncate(69));
        it.tint.truncate(69);
        it.id.truncate(69);
    }),
    ("a sprite's place", |it| it.sprites[0].position[0] += 0.3),
    ("a sprite's colour", |it| it.sprites[0].tint[0] = 0.9),
    ("another sprite", |it| it.sprites.push(Sprite { size: [0.3; 2], ..it.sprites[0] })),
    ("colour", |it| it.look.glow = 1.5),
    ("blend", |it| it.look.blend = Blend::Alpha),
    ("mesh", |it| it.stone("cone")),
    ("mesh again", |it| it.stone("ball")),
    ("detail", |it| it.detail = [0.2, 0.6]),
    ("backdrop", |it| it.backdrop.sky.zenith = Colour::new(0.5, 0.1, 0.1)),
    ("lamp", |it| it.lights[0].power = 9.0),
    ("sun", |it| it.sun.bearing_degrees += 30.0),
    ("camera", |it| it.camera.position[0] += 0.1),
    ("exposure", |it| it.camera.exposure = 2.0),
    ("picture", |it| it.size_of = [151, 91]),
    ("technique", |it| it.technique = Technique::Batched),
];

#[test]
fn whatever_changes_the_picture_is_right() {
    let mut scene = Scene::new();
    let mut keeps = renderer();
    let sprite_look = LookSpec::sprites(false, 1).build().unwrap();
    let mut looks = [scene.look(), sprite_look];
    for (name, change) in CHANGES {
        // Until records are kept.
        let mut kept = 0;
        for _ in 0..4 {
            kept = scene.draw(&looks, &mut keeps).1;
        }
        assert!(kept >= 2, "before {name}: {kept} kept");
        let before = scene.draw(&looks, &mut keeps).0;
        change(&mut scene);
        looks[0] = scene.look();
        let (image, _) = scene.draw(&looks, &mut keeps);
        assert_eq!(image, scene.draw(&looks, &mut renderer()).0, "{name}");
        // A single element may be hidden.
        if ["a sprite's colour", "colour", "mesh", "backdrop", "lamp", "sun", "camera", "picture"]
            .contains(&name)
        {
            assert_ne!(image, before, "{name} shows");
        }
    }
}

/// Elements that move on their own are projected in every frame, and so are those whose first ones stay while others sway.
#[test]
fn what_moves_is_not_kept() {
    let mut scene = Scene::new();
    scene.sprites.clear();
    let looks = [scene.look(), LookSpec::sprites(false, 1).build().unwrap()];
    let mut keeps = renderer();
    for step in 0..6 {
        scene.turn[0][69] = step as f32;
        let (image, kept) = scene.draw(&looks, &mut keeps);
        assert_eq!(kept, 0, "{step}");
        assert_eq!(image, scene.draw(&looks, &mut renderer()).0, "{step}");
    }
    // Two frames at rest.
    let kept: Vec<u64> = (0..4).map(|_| scene.draw(&looks, &mut keeps).1).collect();
    assert_eq!(kept.last(), Some(&1), "{kept:?}");
}
