//! Packing, textures and text: nothing overlaps, no neighbour bleeds in, letters are right way up, kerned and sharp.

use frolic_draw::{
    Align, AtlasBuilder, Fill, Font, PackSpec, Picture, RegionId, Sprite, TextStyle, TileMap, pack,
};
use proptest::prelude::*;

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]

    /// Cells with their padding lie within their page and apart from one another.
    #[test]
    fn packed_pictures_do_not_overlap(
        sizes in prop::collection::vec(prop::array::uniform2(1u32..70), 0..120), padding in 1u32..9, log2 in 7u32..11,
    ) {
        let spec = PackSpec::new(1 << log2, padding).unwrap();
        let (sides, places) = pack(&sizes, &spec).unwrap();
        prop_assert_eq!(places.len(), sizes.len());
        let cells: Vec<[u32; 2]> = sizes.iter().map(|size| spec.cell(*size)).collect();
        for (n, (place, cell)) in places.iter().zip(&cells).enumerate() {
            prop_assert!(place.page < sides.len());
            prop_assert!(place.x + cell[0] <= sides[place.page] && place.y + cell[1] <= sides[place.page]);
            prop_assert!(place.x % frolic_draw::CELL == 0 && place.y % frolic_draw::CELL == 0);
            prop_assert!(cell[0] >= sizes[n][0] + 2 * padding - 1);
            for (other, size) in places.iter().zip(&cells).skip(n + 1) {
                let apart = place.page != other.page
                    || place.x + cell[0] <= other.x || other.x + size[0] <= place.x
                    || place.y + cell[1] <= other.y || other.y + size[1] <= place.y;
                prop_assert!(apart, "{place:?} {cell:?} and {other:?} {size:?}");
            }
        }
        // Not wasteful: of small pictures, a page that is followed by another is at least two thirds full.
        let small = cells.iter().flatten().all(|side| side * 6 <= 1 << log2);
        for page in 0..if small { sides.len().saturating_sub(1) } else { 0 } {
            let used: u64 = places.iter().zip(&cells).filter(|(p, _)| p.page == page)
                .map(|(_, c)| u64::from(c[0]) * u64::from(c[1])).sum();
            prop_assert!(used * 3 >= u64::from(sides[page]).pow(2) * 2, "{used} of {}", sides[page]);
        }
    }

    /// One white picture among black ones stays white wherever and however small it is looked up, and they stay black.
    #[test]
    fn no_neighbour_bleeds_in(
        sizes in prop::collection::vec(prop::array::uniform2(1u32..30), 2..24),
        u in 0f32..1.0, v in 0f32..1.0, texels in 0.1f32..64.0,
    ) {
        let mut builder = AtlasBuilder::default();
        let sheets: Vec<_> = sizes.iter().enumerate().map(|(n, size)| {
            let tone = if n == 1 { 255 } else { 0 };
            let count = (size[0] * size[1]) as usize;
            builder.picture(&n.to_string(), Picture::new(*size, vec![[tone, tone, tone, 255]; count]).unwrap())
        }).collect();
        let atlas = builder.build().unwrap();
        for (n, sheet) in sheets.iter().enumerate() {
            let want = if n == 1 { 1.0 } else { 0.0 };
            let [r, g, b, a] = atlas.sample(sheet.frame(0), u, v, texels);
            prop_assert_eq!([r, g, b, a], [want, want, want, 1.0], "picture {} at {}, {}, {}", n, u, v, texels);
        }
    }
}

#[test]
fn oversized_pictures_are_refused() {
    let spec = PackSpec::new(64, 1).unwrap();
    assert_eq!(pack(&[[70, 3]], &spec).unwrap_err().key, "picture");
    assert!(PackSpec::new(32, 1).is_err() && PackSpec::new(64, 0).is_err());
    assert!(Picture::new([0, 4], vec![]).is_err());
    assert!(Picture::new([2, 2], vec![[0; 4]; 3]).is_err());
    let mut builder = AtlasBuilder::default();
    let picture = Picture::new([6, 4], vec![[9; 4]; 24]).unwrap();
    assert_eq!(builder.frames("odd", &picture, 4, 1).unwrap_err().key, "frames");
    assert_eq!(builder.frames("none", &picture, 0, 1).unwrap_err().key, "frames");
    let sheet = builder.frames("six", &picture, 3, 2).unwrap();
    assert_eq!(sheet.len(), 6);
    assert!(TileMap::new(sheet, [2, 1], vec![0]).is_err());
    assert!(TileMap::new(sheet, [2, 1], vec![0, 6]).is_err());
    assert!(TileMap::new(sheet, [2, 1], vec![5, TileMap::EMPTY]).is_ok());
}

/// Frames keep their place: the third of a row is what the picture shows third.
#[test]
fn frames_are_numbered_row_after_row() {
    let mut builder = AtlasBuilder::default();
    let picture = Picture::paint([6, 4], |x, y| [(x / 2 * 60) as u8, (y / 2 * 120) as u8, 0, 255]).unwrap();
    let sheet = builder.frames("sheet", &picture, 3, 2).unwrap();
    let atlas = builder.build().unwrap();
    let shown = |nth: u32| {
        let [r, g, ..] = atlas.sample(sheet.frame(nth), 0.5, 0.5, 1.0);
        (r > 0.1, g > 0.1)
    };
    assert_eq!(
        [shown(0), shown(2), shown(3), shown(5)],
        [(false, false), (true, false), (false, true), (true, true)]
    );
    assert_eq!(shown(6), shown(0), "starts again");
    assert_eq!(atlas.size(sheet.frame(1)), Some([2, 2]));
    assert_eq!(atlas.size(RegionId::default()), Some([2, 2]));
}

/// What letters cover, drawn as the atlas has them: rows of opacity.
fn set(words: &str, size: f32) -> (Vec<Vec<f32>>, Vec<Sprite>) {
    let mut builder = AtlasBuilder::default();
    let font = Font::add(&mut builder, "font", Font::shipped(), &[size]).unwrap();
    let atlas = builder.build().unwrap();
    let mut letters = Vec::new();
    font.on_screen(words, [2.0, 2.0], &TextStyle { size, align: Align::Left, tint: [1.0; 4] }, &mut letters);
    let [w, h] = font.measure(words, size).map(|side| side as usize + 6);
    let mut rows = vec![vec![0.0f32; w]; h];
    for letter in &letters {
        let Fill::Picture(region) = letter.fill else { panic!("a letter is a picture") };
        let [x, y] = [letter.position[0], letter.position[1]];
        assert_eq!((x.fract(), y.fract()), (0.0, 0.0), "on whole pixels");
        let [gw, gh] = letter.size.map(|side| side as usize);
        for j in 0..gh {
            for i in 0..gw {
                let [.., a] =
                    atlas.sample(region, (i as f32 + 0.5) / gw as f32, (j as f32 + 0.5) / gh as f32, 1.0);
                if let Some(pixel) = rows.get_mut(y as usize + j).and_then(|row| row.get_mut(x as usize + i))
                {
                    *pixel = pixel.max(a);
                }
            }
        }
    }
    (rows, letters)
}

#[test]
fn letters_stand_the_right_way_up() {
    // An L has its bar below, a T above; a P its bow to the right.
    let weight = |rows: &[Vec<f32>]| {
        let half = rows.len() / 2;
        let sum = |rows: &[Vec<f32>]| rows.iter().flatten().sum::<f32>();
        (sum(&rows[..half]), sum(&rows[half..]))
    };
    let ink = |words: &str| {
        let rows = set(words, 24.0).0;
        let inked: Vec<Vec<f32>> = rows.into_iter().filter(|row| row.iter().any(|a| *a > 0.0)).collect();
        inked
    };
    let (above, below) = weight(&ink("L"));
    assert!(below > above * 1.3, "{above} {below}");
    let (above, below) = weight(&ink("T"));
    assert!(above > below * 1.2, "{above} {below}");
}

/// At 12 pixels stems are near opaque and what is between them near empty: no blur.
#[test]
fn text_of_twelve_pixels_is_sharp() {
    let (rows, _) = set("HILT", 12.0);
    let inked: Vec<f32> = rows.into_iter().flatten().filter(|a| *a > 0.02).collect();
    let strong = inked.iter().filter(|a| **a > 0.85).count() as f32 / inked.len() as f32;
    assert!(strong > 0.4, "only {strong} of the ink is strong");
}

#[test]
fn pairs_are_kerned() {
    let mut builder = AtlasBuilder::default();
    let font = Font::add(&mut builder, "font", Font::shipped(), &[48.0]).unwrap();
    let width = |words: &str| font.measure(words, 48.0)[0];
    assert!(width("AV") < width("A") + width("V") - 1.0);
    assert_eq!(width("HH"), width("H") * 2.0);
    let [w, h] = font.measure("one\ntwo three", 48.0);
    assert!(w == width("two three") && h > 90.0);
    // Half the size, half the width.
    assert!((font.measure("AV", 24.0)[0] * 2.0 - width("AV")).abs() < 1e-3);
}

#[test]
fn lines_stand_where_they_are_aligned() {
    let mut builder = AtlasBuilder::default();
    let font = Font::add(&mut builder, "font", Font::shipped(), &[20.0]).unwrap();
    let ends = |align| {
        let mut letters = Vec::new();
        font.on_screen("mmm", [100.0, 0.0], &TextStyle { size: 20.0, align, tint: [1.0; 4] }, &mut letters);
        let left = letters.iter().map(|l| l.position[0]).fold(f32::INFINITY, f32::min);
        let right = letters.iter().map(|l| l.position[0] + l.size[0]).fold(0.0, f32::max);
        (left, right)
    };
    let (left, right) = ends(Align::Left);
    assert!((100.0..104.0).contains(&left), "{left}");
    let (from, to) = ends(Align::Centre);
    assert!(((from + to) * 0.5 - 100.0).abs() < 2.0);
    let (_, end) = ends(Align::Right);
    assert!((97.0..=100.0).contains(&end) && right > 130.0, "{end}");
}

/// A letter that the font does not have is shown as one that stands for it, and takes room; what is no font is refused.
#[test]
fn missing_glyphs_are_replaced() {
    let (_, letters) = set("a\u{4e2d}b", 16.0);
    assert_eq!(letters.len(), 3);
    let mut builder = AtlasBuilder::default();
    assert_eq!(Font::add(&mut builder, "font", b"no font", &[12.0]).unwrap_err().key, "font");
    assert!(Font::add(&mut builder, "font", Font::shipped(), &[]).is_err());
    assert!(Font::add(&mut builder, "font", Font::shipped(), &[0.0]).is_err());
    let cut = &Font::shipped()[..4000];
    assert!(Font::add(&mut builder, "font", cut, &[12.0]).is_err());
}
