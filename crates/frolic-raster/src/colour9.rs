//! Light in 32 bits: three 9-bit mantissas that share a 5-bit exponent (the layout of the OpenGL extension
//! `EXT_texture_shared_exponent`, 2007). Steps are at most a 256th of the brightest channel; range 6e-8 to 32000. The largest exponent is
//! left to words that are no colours.

use fearless_simd::prelude::*;
use fearless_simd::{f32x8, u32x8};

/// Marks a sample without a colour.
pub const EMPTY: u32 = u32::MAX;

/// Marks a sample that holds the place of a triangle, in the lower 26 bits, instead of a colour.
pub const VISIBLE: u32 = 31 << 27;

/// With [`VISIBLE`]: it is a place among the triangles with a texture.
pub const TEXTURED: u32 = 1 << 26;

const LARGEST: f32 = 32_000.0;
const BIAS: i32 = 15;
const MANTISSA: i32 = 9;

/// Packs one colour. Negative values and NaN become 0.
#[inline(always)]
pub fn pack([r, g, b]: [f32; 3]) -> u32 {
    let clean = |v: f32| if v > 0.0 { if v < LARGEST { v } else { LARGEST } } else { 0.0 };
    let (r, g, b) = (clean(r), clean(g), clean(b));
    let most = r.max(g).max(b).max(SMALLEST);
    let exponent = shared_exponent(most.to_bits());
    let scale = f32::from_bits(scale_bits(exponent));
    let mantissa = |v: f32| ((v * scale + 0.5) as i32 as u32).min(511);
    exponent << 27 | mantissa(b) << 18 | mantissa(g) << 9 | mantissa(r)
}

/// Smallest value with an exponent of its own.
const SMALLEST: f32 = 1.0 / 65_536.0;

/// The exponent that holds a value with these bits.
#[inline(always)]
fn shared_exponent(bits: u32) -> u32 {
    // Half a step is added first, so that a value that rounds up to the next power of two takes its exponent.
    let raised = bits.wrapping_add(1 << (23 - MANTISSA));
    (raised >> 23) + 1 + BIAS as u32 - 127
}

/// Bits of 2^(9 + 15 - exponent).
#[inline(always)]
fn scale_bits(exponent: u32) -> u32 {
    ((127 + MANTISSA + BIAS) as u32 - exponent) << 23
}

/// Unpacks a colour.
#[inline(always)]
pub fn unpack(packed: u32) -> [f32; 3] {
    let scale = f32::from_bits((127 + (packed >> 27) as i32 as u32 - (BIAS + MANTISSA) as u32) << 23);
    let channel = |shift: u32| (packed >> shift & 511) as i32 as f32 * scale;
    [channel(0), channel(9), channel(18)]
}

/// [`unpack`] for eight.
#[inline(always)]
pub fn unpack_lanes<S: Simd>(packed: u32x8<S>) -> [f32x8<S>; 3] {
    let exponent = (packed >> 27) + (127 - (BIAS + MANTISSA) as u32);
    let scale: f32x8<S> = (exponent << 23).bitcast();
    let channel = |mantissa: u32x8<S>| mantissa.bitcast::<i32x8_of<S>>().to_float::<f32x8<S>>() * scale;
    [channel(packed & 511), channel((packed >> 9) & 511), channel((packed >> 18) & 511)]
}

/// [`pack`] for eight.
#[inline(always)]
pub fn pack_lanes<S: Simd>(simd: S, colour: [f32x8<S>; 3]) -> u32x8<S> {
    let (zero, largest) = (f32x8::splat(simd, 0.0), f32x8::splat(simd, LARGEST));
    let r = zero.max(colour[0]).min(largest);
    let g = zero.max(colour[1]).min(largest);
    let b = zero.max(colour[2]).min(largest);
    let most = r.max(g).max(b).max(f32x8::splat(simd, SMALLEST));
    let raised = most.bitcast::<u32x8<S>>() + (1 << (23 - MANTISSA));
    let exponent = (raised >> 23) + (1 + BIAS as u32).wrapping_sub(127);
    let scale: f32x8<S> = ((u32x8::splat(simd, (127 + MANTISSA + BIAS) as u32) - exponent) << 23).bitcast();
    let most = u32x8::splat(simd, 511);
    let (r, g, b): (i32x8_of<S>, i32x8_of<S>, i32x8_of<S>) =
        ((r * scale + 0.5).to_int(), (g * scale + 0.5).to_int(), (b * scale + 0.5).to_int());
    let (r, g, b): (u32x8<S>, u32x8<S>, u32x8<S>) = (r.bitcast(), g.bitcast(), b.bitcast());
    (exponent << 27) | (b.min(most) << 18) | (g.min(most) << 9) | r.min(most)
}

#[allow(non_camel_case_types)] // as the vector types are named
type i32x8_of<S> = fearless_simd::i32x8<S>;

#[cfg(test)]
mod tests {
    use frolic_simd::{kernel, levels};
    use proptest::prelude::*;

    use super::*;

    kernel! {
        fn eight_packed(simd, colour: [f32; 3]) -> [u32; 8] {
            pack_lanes(simd, colour.map(|c| f32x8::splat(simd, c))).to_array()
        }

        fn eight_unpacked(simd, packed: u32) -> [[f32; 8]; 3] {
            unpack_lanes(u32x8::splat(simd, packed)).map(|channel| channel.to_array())
        }
    }

    proptest! {
        /// Within a 256th of the brightest channel, at any brightness; eight at a time the same to the last bit.
        #[test]
        fn light_survives(colour in prop::array::uniform3(0f32..1.0), exponent in -12i32..14) {
            let colour = colour.map(|c| c * 2f32.powi(exponent));
            let packed = pack(colour);
            prop_assert!(packed < VISIBLE);
            let back = unpack(packed);
            let most = colour.iter().fold(0f32, |a, b| a.max(*b));
            for (a, b) in colour.iter().zip(back) {
                prop_assert!((a - b).abs() <= most / 256.0 + 1e-7, "{colour:?} {back:?}");
            }
            for level in levels() {
                prop_assert_eq!(eight_packed(level, colour), [packed; 8]);
                prop_assert_eq!(eight_unpacked(level, packed), back.map(|channel| [channel; 8]));
            }
        }
    }

    #[test]
    fn invalid_light_is_dark() {
        assert_eq!(unpack(pack([f32::NAN, -1.0, 0.0])), [0.0; 3]);
        let [r, ..] = unpack(pack([f32::INFINITY, 0.0, 0.0]));
        assert!((31_900.0..32_100.0).contains(&r));
        assert!(pack([f32::INFINITY; 3]) < VISIBLE);
    }
}
