//! Textures, letters, and all ways to be a look.

use frolic_core::Span;
use frolic_draw::{
    AtlasBuilder, BillboardSpec, Blend, Colour, DetailSpec, Facing, Font, Library, Look, LookSpec, Picture,
    Play, RibbonSpec, Shape, TileMap, TuftSpec,
};

/// Textures: two frames of soft spots, a picture with holes, a tuft, four tiles; letters of two sizes.
pub struct Kit {
    pub library: Library,
    pub font: Font,
    pub sheet: frolic_draw::Sheet,
    pub tiles: frolic_draw::TileMapId,
}

pub fn kit() -> Kit {
    let mut builder = AtlasBuilder::default();
    let puffs = Picture::paint([64, 32], |x, y| {
        let (dx, dy) = ((x % 32) as f32 - 15.5, y as f32 - 15.5);
        let inside = (1.0 - (dx * dx + dy * dy) / 256.0).max(0.0);
        [200, 220, if x < 32 { 120 } else { 250 }, (inside * 255.0) as u8]
    });
    let sheet = builder.frames("puffs", &puffs.unwrap(), 2, 1).unwrap();
    let leaf = Picture::paint([32, 32], |x, y| [60, 180, 70, if (x / 4 + y / 8) % 3 == 0 { 0 } else { 255 }]);
    builder.picture("leaf", leaf.unwrap());
    builder.picture("tuft", TuftSpec::default().paint().unwrap());
    let tiles = Picture::paint([32, 32], |x, y| [(x / 16 * 200) as u8, (y / 16 * 200) as u8, 90, 255]);
    let tiles = builder.frames("tiles", &tiles.unwrap(), 2, 2).unwrap();
    let tiles = builder.tile_map(TileMap::new(tiles, [7, 5], (0..35).map(|n| n % 4).collect()).unwrap());
    let font = Font::add(&mut builder, "font", Font::shipped(), &[12.0, 40.0]).unwrap();
    Kit {
        library: Library { atlas: builder.build().unwrap().into(), ..Library::default() },
        font,
        sheet,
        tiles,
    }
}

/// All ways to be a look on a population of particles, and whether they are solid.
pub fn looks(kit: &Kit) -> Vec<(String, Look)> {
    let ribbon = Shape::Ribbon(RibbonSpec::default());
    let mesh = |name: &str, texture: Option<&str>| Shape::Mesh {
        name: name.to_owned(),
        coarse: Some("box".to_owned()),
        texture: texture.map(str::to_owned),
        wave: None,
    };
    let billboard = |facing, play, blend_frames| {
        Shape::Billboard(BillboardSpec::new("puffs").facing(facing).play(play, blend_frames))
    };
    let spin = Facing::Spin { rate: Span::new(-90.0, 90.0) };
    let mut leaf = BillboardSpec::new("leaf");
    leaf.aspect = 1.7;
    let shapes = [
        ("disc", Shape::Disc),
        ("billboard", billboard(Facing::Camera, Play::Age, false)),
        ("melting billboard", billboard(spin, Play::Age, true)),
        ("billboard by clock", billboard(Facing::Heading, Play::Clock { rate: 7.0 }, true)),
        ("streak", billboard(Facing::Stretch { seconds: 0.4 }, Play::Pick, false)),
        ("leaf", Shape::Billboard(leaf)),
        ("ribbon", ribbon),
        ("ball", mesh("ball", None)),
        ("pennant", mesh("pennant", None)),
        ("worn box", mesh("box", Some("leaf"))),
    ];
    let mut looks = Vec::new();
    for (name, shape) in shapes {
        for blend in [Blend::Alpha, Blend::Additive, Blend::Opaque, Blend::CutOut] {
            let mut look =
                LookSpec::glowing(1.4, [(0.0, "#ffd080"), (0.5, "#6080ff"), (1.0, "#a04020")]).unwrap();
            look = look.opacity_over_age([(0.0, 0.4), (0.5, 0.9), (1.0, 0.2)]).shape(shape.clone());
            (look.blend, look.lit, look.rim, look.translucency) = (blend, 0.8, 0.5, 0.3);
            look.tints = vec![Colour::new(1.0, 0.5, 0.4), Colour::new(0.4, 0.9, 1.0)];
            look.colour_along =
                frolic_core::Ramp::new([(0.0, Colour::new(0.3, 0.3, 0.3)), (1.0, Colour::WHITE)]);
            // A device draws no spots.
            look.detail = DetailSpec::default().coarse_below(6.0).thin_below(2.0).tiny_below(0.0);
            if let Ok(look) = look.build_with(&kit.library) {
                looks.push((format!("{name}, {blend:?}"), look));
            }
        }
    }
    // A disc cannot be solid.
    assert_eq!(looks.len(), 38);
    looks
}
