//! Tiles of a picture, and sort keys of records.

use frolic_raster::record::{depth_of, key, keyed};
use frolic_raster::tile::Grid;
use proptest::prelude::*;

prop_compose! {
    fn grid()(width in 1usize..200, height in 1usize..150, across in 3u32..7, down in 3u32..8) -> Grid {
        Grid::new([width, height], [across, down])
    }
}

proptest! {
    /// Every pixel is in exactly one tile, and both of its indices lead back to it.
    #[test]
    fn tiles_share_out_the_picture(grid in grid()) {
        let mut owner = vec![None; grid.width * grid.height];
        for nth in 0..grid.tiles() {
            let rect = grid.rect(nth);
            for (x, y) in (rect.y..rect.y + rect.h).flat_map(|y| (rect.x..rect.x + rect.w).map(move |x| (x, y))) {
                prop_assert_eq!(owner[y * grid.width + x].replace(nth), None);
                let (row, column) = grid.row_of(x, y);
                prop_assert_eq!((row, column), (nth * grid.rows() + y - rect.y, x - rect.x));
                let texels = grid.tile_width() * grid.rows();
                prop_assert_eq!(grid.texel(x, y), nth * texels + column * grid.rows() + y - rect.y);
            }
        }
        prop_assert!(owner.iter().all(Option::is_some));
    }

    /// Bounds touch the tiles of the pixel centres inside them, and no others.
    #[test]
    fn bounds_cover_their_pixel_centres(
        grid in grid(), x in -50f32..250.0, y in -50f32..200.0, w in 0f32..120.0, h in 0f32..120.0,
    ) {
        let inside = |at: usize, from: f32, size: f32| (from..=from + size).contains(&(at as f32 + 0.5));
        let columns: Vec<usize> = (0..grid.width).filter(|&i| inside(i, x, w)).collect();
        let rows: Vec<usize> = (0..grid.height).filter(|&j| inside(j, y, h)).collect();
        let mut tiles: Vec<usize> = rows
            .iter()
            .flat_map(|j| columns.iter().map(move |i| (i, j)))
            .map(|(i, j)| grid.row_of(*i, *j).0 / grid.rows())
            .collect();
        tiles.sort_unstable();
        tiles.dedup();
        match grid.cover([x, y, x + w, y + h]) {
            None => prop_assert!(tiles.is_empty()),
            Some(touched) => {
                let mut visited = Vec::new();
                touched.each(&grid, |tile| visited.push(tile));
                prop_assert_eq!(&visited, &tiles);
                prop_assert_eq!(touched.count() as usize, tiles.len());
                prop_assert_eq!(touched.first(&grid), tiles[0]);
                let among = |&nth: &usize| {
                    let [across, down] = grid.place(nth);
                    touched.contains(across, down)
                };
                prop_assert_eq!((0..grid.tiles()).filter(among).collect::<Vec<_>>(), tiles);
            }
        }
    }

    /// Keys ascend from far to near, and hold the depth to the bit.
    #[test]
    fn keys_sort_far_to_near(a in 1e-6f32..1e9, b in 1e-6f32..1e9, which in any::<u32>()) {
        prop_assert_eq!(a.total_cmp(&b), key(b).cmp(&key(a)));
        prop_assert_eq!(depth_of(keyed(a, which)), a);
        prop_assert_eq!(keyed(a, which) as u32, which);
        prop_assert_eq!([key(-a), key(f32::NAN)], [key(0.0); 2]);
    }
}
