//! Lookup of textures, and packed colours.

use frolic_raster::colour9::{VISIBLE, pack, unpack};
use frolic_raster::texture::{Page, Region, RegionId, Textures};
use proptest::prelude::*;

/// A page of 64 texels with all its sizes, and a region on it.
fn textures(region: Region, texel: impl Fn(usize, usize) -> [u16; 4]) -> Textures {
    let level = |log2: u32| {
        let side = 64usize >> log2;
        (0..side * side).map(|at| texel((at % side) << log2, (at / side) << log2)).collect()
    };
    Textures { pages: vec![Page { side: 64, levels: (0..4).map(level).collect() }], regions: vec![region] }
}

prop_compose! {
    fn region()(x in 0u32..4, y in 0u32..4, w in 1u32..5, h in 1u32..5) -> Region {
        Region { page: 0, x: x * 8, y: y * 8, w: w * 8, h: h * 8 }
    }
}

proptest! {
    /// No texel outside the region bleeds into it, at any place and size.
    #[test]
    fn a_region_shows_only_its_own_texels(region in region(), u in -0.5f32..1.5, v in -0.5f32..1.5, texels in 0.1f32..40.0) {
        let within = |x: usize, y: usize| {
            (region.x..region.x + region.w).contains(&(x as u32)) && (region.y..region.y + region.h).contains(&(y as u32))
        };
        let textures = textures(region, |x, y| if within(x, y) { [40_000, 30_000, 20_000, 50_000] } else { [0; 4] });
        let found = textures.region(RegionId(0)).copied();
        prop_assert_eq!(found, Some(region));
        let colour = textures.look_up(&region, u, v, texels);
        let share = colour / colour.w;
        for (got, wanted) in share.to_array().into_iter().zip([0.8, 0.6, 0.4, 1.0]) {
            prop_assert!((got - wanted).abs() < 1e-5, "{got} is not {wanted}");
        }
        let opacity = textures.texels(&region, texels).opacity(u, v);
        prop_assert!((opacity - 50_000.0 / 65_535.0).abs() < 1e-5, "{opacity}");
    }

    /// At the centre of a texel the full size gives that texel.
    #[test]
    fn centres_of_texels_are_exact(region in region(), i in 0u32..64, j in 0u32..64) {
        let textures = textures(region, |x, y| [(x * 900) as u16, (y * 900) as u16, 0, 65_535]);
        let (i, j) = (i % region.w, j % region.h);
        let (u, v) = ((i as f32 + 0.5) / region.w as f32, (j as f32 + 0.5) / region.h as f32);
        let [red, green, ..] = textures.texels(&region, 1.0).at(u, v).to_array();
        for (got, texel) in [(red, region.x + i), (green, region.y + j)] {
            prop_assert!((got - texel as f32 * 900.0 / 65_535.0).abs() < 1e-4, "{got} at texel {texel}");
        }
    }

    /// A packed colour is within a 256th of its brightest channel, and is no mark.
    #[test]
    fn packed_colours_keep_their_light(colour in [0f32..30_000.0, 0f32..2.0, 0f32..0.01]) {
        let packed = pack(colour);
        prop_assert!(packed < VISIBLE);
        let most = colour.iter().copied().fold(0.0, f32::max);
        for (got, wanted) in unpack(packed).into_iter().zip(colour) {
            prop_assert!((got - wanted).abs() <= most / 256.0 + 1e-7, "{got} is not {wanted}");
        }
        prop_assert_eq!(unpack(pack([-1.0, f32::NAN, 0.0])), [0.0; 3]);
    }
}
