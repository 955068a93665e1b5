//! A finished picture, enlarged to twice its width and height.

use frolic_simd::kernel;

/// Pixels that are enlarged at once.
const PART: usize = 64;

/// Rows of a picture that is enlarged.
#[derive(Debug, Clone, Copy)]
pub struct Small<'a> {
    /// Its pixels, row after row.
    pub pixels: &'a [[u8; 4]],
    /// Columns of it.
    pub width: usize,
    /// Rows of it.
    pub height: usize,
}

kernel! {
    /// Fills row `y` of a picture of twice the width and height, less one where that is odd: each pixel takes 9/16 of the one it is in, 3/16 of each of two
    /// beside it and 1/16 of the fourth (bilinear).
    pub fn row(simd, small: Small<'_>, y: usize, into: &mut [[u8; 4]]) {
        let _ = simd;
        fill(small, y, into);
    }
}

/// Plain loops over bytes, which every instruction set is compiled for.
#[inline(always)]
fn fill(Small { pixels, width, height }: Small<'_>, y: usize, into: &mut [[u8; 4]]) {
    let near = (y / 2).min(height - 1);
    let far = if y.is_multiple_of(2) { near.saturating_sub(1) } else { (near + 1).min(height - 1) };
    let (near, far) = (&pixels[near * width..][..width], &pixels[far * width..][..width]);
    for (part, out) in into.chunks_mut(2 * PART).enumerate() {
        let first = part * PART;
        // Three parts of the near row and one of the far, with a pixel more at each end.
        let mut mixed = [[0u16; 4]; PART + 2];
        let count = out.len().div_ceil(2);
        let within = first.min(width)..(first + count).min(width);
        for ((mixed, near), far) in mixed[1..].iter_mut().zip(&near[within.clone()]).zip(&far[within]) {
            for c in 0..4 {
                mixed[c] = 3 * u16::from(near[c]) + u16::from(far[c]);
            }
        }
        let at = |x: usize| {
            let x = x.min(width - 1);
            [0, 1, 2, 3].map(|c| 3 * u16::from(near[x][c]) + u16::from(far[x][c]))
        };
        (mixed[0], mixed[count + 1]) = (at(first.saturating_sub(1)), at(first + count));
        let (pairs, last) = out.as_chunks_mut::<2>();
        for (pair, around) in pairs.iter_mut().zip(mixed.windows(3)) {
            for c in 0..4 {
                pair[0][c] = ((3 * around[1][c] + around[0][c] + 8) >> 4) as u8;
                pair[1][c] = ((3 * around[1][c] + around[2][c] + 8) >> 4) as u8;
            }
        }
        if let [pixel] = last {
            for c in 0..4 {
                pixel[c] = ((3 * mixed[count][c] + mixed[count - 1][c] + 8) >> 4) as u8;
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use frolic_simd::levels;

    use super::*;

    /// Each pixel of an enlarged picture, as it is defined.
    #[test]
    fn pixels_are_mixed_from_the_four_around_them() {
        for [wide, high] in [[1, 1], [1, 2], [7, 5], [200, 3], [129, 2], [131, 4]] {
            let [w, h] = [wide, high].map(|side: usize| side.div_ceil(2));
            let pixels: Vec<[u8; 4]> =
                (0..w * h).map(|n| [n as u8, (n * 7) as u8, (n * 91) as u8, 255]).collect();
            let small = Small { pixels: &pixels, width: w, height: h };
            for y in 0..high {
                let along = |at: usize, most: usize| {
                    let near = at / 2;
                    let far =
                        if at.is_multiple_of(2) { near.saturating_sub(1) } else { (near + 1).min(most - 1) };
                    [near, far]
                };
                let want: Vec<[u8; 4]> = (0..wide)
                    .map(|x| {
                        let ([i, i2], [j, j2]) = (along(x, w), along(y, h));
                        [0, 1, 2, 3].map(|c| {
                            let of = |i: usize, j: usize| u32::from(pixels[j * w + i][c]);
                            ((9 * of(i, j) + 3 * of(i2, j) + 3 * of(i, j2) + of(i2, j2) + 8) / 16) as u8
                        })
                    })
                    .collect();
                for level in levels() {
                    let mut got = vec![[0; 4]; wide];
                    row(level, small, y, &mut got);
                    assert_eq!(got, want, "{wide}x{high}, row {y}");
                }
            }
        }
    }
}
