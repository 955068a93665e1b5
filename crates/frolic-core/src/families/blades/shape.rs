//! The shape of a blade: a quadratic curve of constant length at any lean.
//!
//! A blade is vertical at its root; its tip points at the angle φ from the vertical, in the direction of the lean. With the control point at height α and
//! the tip at the same distance from it, the speed of the curve is 2α √(cos²(φ/2) + (2t - 1)² sin²(φ/2)), and its length in closed form
//!
//! ```text
//! L = α (1 + (1 - s²) artanh(s) / s),   s = sin(φ/2)
//! ```
//!
//! so α follows from the length, and no blade is stretched. No point of the curve is below its root, as no control point is.

use glam::Vec3;

/// Maximum lean of a blade, in radians: its tip points 45 degrees below the horizontal.
pub const MOST_LEAN: f32 = 2.35;

/// Offsets of the control point and of the tip from the root, in metres, for a length, in metres, and a lean along x and z, in radians. Leans beyond
/// [`MOST_LEAN`] are clamped to it. The length of the curve is exact to within 2e-5 of it.
///
/// ```
/// use frolic_core::{blade_curve, curve_length};
/// for lean in [0.0, 0.4, 1.5, 2.35] {
///     let [middle, tip] = blade_curve(0.8, [lean, 0.0]);
///     assert!((curve_length(middle, tip) / 0.8 - 1.0).abs() < 1e-4);
///     assert!(tip.x >= 0.0);
/// }
/// ```
#[inline(always)]
pub fn blade_curve(length: f32, lean: [f32; 2]) -> [Vec3; 2] {
    let square = lean[0] * lean[0] + lean[1] * lean[1];
    let most = MOST_LEAN * MOST_LEAN;
    let (square, held) = if square > most { (most, (most / square).sqrt()) } else { (square, 1.0) };
    // Of half the angle: its square, sine over angle, cosine.
    let y = square * 0.25;
    let sinc = SINC[0] + y * (SINC[1] + y * (SINC[2] + y * SINC[3]));
    let sin_square = y * sinc * sinc;
    let cos = (1.0 - sin_square).sqrt();
    let share = SHARE[0] + y * (SHARE[1] + y * (SHARE[2] + y * (SHARE[3] + y * (SHARE[4] + y * SHARE[5]))));
    let alpha = length * share;
    // sin φ / φ.
    let aside = alpha * sinc * cos * held;
    let tip = Vec3::new(lean[0] * aside, alpha * 2.0 * (1.0 - sin_square), lean[1] * aside);
    [Vec3::new(0.0, alpha, 0.0), tip]
}

/// sin x / x in x², to 2e-7 up to x = 1.3.
const SINC: [f32; 4] = [0.999_999_8, -0.166_663_45, 0.008_323_774, -0.000_189_296_92];

/// α / L in (φ/2)², to 8e-6 up to φ = 2.5: Chebyshev interpolation.
const SHARE: [f32; 6] =
    [0.500_003_9, 0.166_491_2, 0.034_605_12, -0.000_142_035, 0.002_967_396_4, -0.002_365_440_8];

/// Length of the quadratic curve from the origin by a control point to a tip, in metres, in closed form; also for straight, folded and empty curves.
///
/// With the derivative 2 (a + t b) the speed is √(b² (t + u)² + d²), where -u is the parameter of least speed and d that speed; its integral is
/// elementary.
pub fn curve_length(middle: Vec3, tip: Vec3) -> f64 {
    let wide = |v: Vec3| v.to_array().map(f64::from);
    let dot = |a: [f64; 3], b: [f64; 3]| a[0] * b[0] + a[1] * b[1] + a[2] * b[2];
    let (a, tip) = (wide(middle), wide(tip));
    let b = [0, 1, 2].map(|axis| tip[axis] - 2.0 * a[axis]);
    let square = dot(b, b);
    // Almost no bend: straight, at a constant speed.
    if square <= 1e-12 * dot(a, a) {
        return dot(tip, tip).sqrt();
    }
    let slowest = dot(a, b) / square;
    let least_square = (dot(a, a) - dot(a, b) * dot(a, b) / square).max(0.0) / square;
    let part = |t: f64| {
        let root = (t * t + least_square).sqrt();
        // Folded: the second term is 0 times the logarithm of 0.
        let bend = if least_square > 1e-18 { least_square * (t / least_square.sqrt()).asinh() } else { 0.0 };
        t * root + bend
    };
    square.sqrt() * (part(1.0 + slowest) - part(slowest))
}

/// Largest lean of a blade above ground that rises by `slope` metres a metre in that direction: a small positive lean on any ground.
///
/// The chord from root to tip is φ/2 off the vertical, so it stays above ground of slope angle β while φ ≤ π - 2β; β is replaced by its tangent,
/// which errs on the safe side.
#[inline(always)]
fn largest_lean(slope: f32) -> f32 {
    (std::f32::consts::PI - 2.0 * slope).clamp(0.2, MOST_LEAN)
}

/// A point of a curve from the origin, at a share of the way from root (0) to tip (1).
pub fn along_curve([middle, tip]: [Vec3; 2], t: f32) -> Vec3 {
    middle * (2.0 * t * (1.0 - t)) + tip * (t * t)
}

/// Clamps a lean along x and z to what the ground allows; also returns 1 if it was unchanged, else 0.
#[inline(always)]
pub(super) fn clamp_lean(x: f32, z: f32, rise_x: f32, rise_z: f32) -> [f32; 3] {
    let far = (x * x + z * z).sqrt();
    let per = 1.0 / far.max(1e-9);
    let room = largest_lean(((rise_x * x + rise_z * z) * per).max(0.0));
    let free = if far > room { 0.0 } else { 1.0 };
    let share = if far > room { room * per } else { 1.0 };
    [x * share, z * share, free]
}

#[cfg(test)]
mod tests {
    use glam::Vec2;
    use proptest::prelude::*;

    use super::*;

    /// The length as a sum of straight pieces.
    fn fine_sum(middle: Vec3, tip: Vec3) -> f64 {
        let (m, t) = (middle.to_array().map(f64::from), tip.to_array().map(f64::from));
        let at = |s: f64| [0, 1, 2].map(|axis| m[axis] * (2.0 * s * (1.0 - s)) + t[axis] * (s * s));
        let points = (0..=20_000).map(|k| at(f64::from(k) / 20_000.0)).collect::<Vec<_>>();
        let piece = |pair: &[[f64; 3]]| {
            (0..3).map(|axis| (pair[1][axis] - pair[0][axis]).powi(2)).sum::<f64>().sqrt()
        };
        points.windows(2).map(piece).sum()
    }

    #[test]
    fn length_of_degenerate_curves() {
        let cases = [
            (Vec3::ZERO, Vec3::ZERO),
            (Vec3::Y * 0.5, Vec3::Y), // straight, even speed
            (Vec3::Y * 0.1, Vec3::Y), // straight, uneven
            (Vec3::Y, Vec3::ZERO),    // out and back
            (Vec3::Y * 3.0, Vec3::Y), // beyond and back
            (Vec3::ZERO, Vec3::X),    // control point at the root
            (Vec3::X, Vec3::X),       // at the tip
            (Vec3::Y, Vec3::new(1e-6, 0.0, 0.0)),
        ];
        for (middle, tip) in cases {
            let (closed, sum) = (curve_length(middle, tip), fine_sum(middle, tip));
            assert!((closed - sum).abs() <= 1e-4 * sum.max(1e-3), "{middle} {tip}: {closed} for {sum}");
        }
    }

    proptest! {
        #[test]
        fn closed_form_is_the_fine_sum(m in prop::array::uniform3(-2f32..2.0), t in prop::array::uniform3(-2f32..2.0)) {
            let (closed, sum) = (curve_length(m.into(), t.into()), fine_sum(m.into(), t.into()));
            prop_assert!((closed - sum).abs() <= 1e-4 * sum.max(1e-3), "{} for {}", closed, sum);
        }

        /// A blade keeps its length at any lean, and stays above its root.
        #[test]
        fn a_blade_keeps_its_length(length in 0.01f32..5.0, x in -9f32..9.0, z in -9f32..9.0) {
            let [middle, tip] = blade_curve(length, [x, z]);
            let now = fine_sum(middle, tip);
            prop_assert!((now / f64::from(length) - 1.0).abs() < 1e-4, "{} for {}", now, length);
            for k in 0..=20 {
                prop_assert!(along_curve([middle, tip], k as f32 / 20.0).y >= -1e-6 * length);
            }
        }

        /// On a slope a blade stays above the ground, in any direction of lean.
        #[test]
        fn a_blade_stays_above_a_slope(x in -3f32..3.0, z in -3f32..3.0, rise in prop::array::uniform2(-1f32..1.0)) {
            let rise = Vec2::from(rise);
            let [x, z, _] = clamp_lean(x, z, rise.x, rise.y);
            let curve = blade_curve(1.0, [x, z]);
            for k in 0..=20 {
                let at = along_curve(curve, k as f32 / 20.0);
                prop_assert!(at.y >= rise.dot(Vec2::new(at.x, at.z)) - 1e-4, "{} over {}", at, rise);
            }
        }
    }
}
