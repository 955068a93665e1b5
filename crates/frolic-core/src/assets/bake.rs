//! Signed distances from triangles: exact distances by a tree of boxes, signs by counting crossings along three axes.
//!
//! The nearest triangle of one point bounds the search for the next one, so few boxes are opened. Eight
//! neighbours traverse the tree together.
//! Signs are the majority of three counts, so that a hole in the surface does not invert a whole row. O(points · log triangles).

use derive_setters::Setters;
use glam::Vec3;
use rayon::prelude::*;

use super::distance::{DistanceGrid, check_points};
use super::surface::Surface;
use crate::foundations::error::{SpecError, within};
use crate::foundations::simd::{Simd, detect, kernel};

/// Resolution and margin of a distance grid.
#[derive(Debug, Clone, Copy, PartialEq, Setters)]
#[non_exhaustive]
pub struct BakeSpec {
    /// Points along the longest side, 4 to 1024. Default: 64.
    pub points: u32,
    /// Margin around the mesh, as a share of its longest side, 0.01 to 2. Default: 0.1.
    pub margin: f32,
}

impl Default for BakeSpec {
    fn default() -> Self {
        Self { points: 64, margin: 0.1 }
    }
}

impl BakeSpec {
    /// Sets the number of points along the longest side.
    pub fn new(points: u32) -> Self {
        Self { points, ..Self::default() }
    }

    /// Bakes a surface. Distances are exact at the points of the grid.
    ///
    /// # Errors
    /// A value out of range, a surface without extent, or a grid that would be too large.
    pub fn bake(&self, surface: &Surface) -> Result<DistanceGrid, SpecError> {
        within("points", self.points as f32, 4.0, 1024.0, "points")?;
        within("margin", self.margin, 0.01, 2.0, "of the longest side")?;
        let [low, high] = surface.bounds();
        let longest = (high - low).max_element();
        if longest <= 0.0 {
            return Err(SpecError::new("mesh", "has no extent", "give a mesh with an inside"));
        }
        let room = longest * self.margin;
        let cell = (longest + 2.0 * room) / (self.points - 1) as f32;
        let side = |extent: f32| (((extent + 2.0 * room) / cell).ceil() as usize + 1).max(2);
        let points = (high - low).to_array().map(side);
        check_points(points)?;
        let size = Vec3::from(points.map(|n| (n - 1) as f32)) * cell;
        let origin = (low + high - size) * 0.5;
        let tree = Tree::new(surface);
        let inside = Inside::new(surface, points, origin, cell);
        let [nx, ny, nz] = points;
        let mut values = vec![0.0f32; nx * ny * nz];
        let level = detect();
        // Blocks of two points a side, in slabs two layers thick.
        values.par_chunks_mut(nx * ny * 2).enumerate().for_each(|(slab, values)| {
            let layers = values.len() / (nx * ny);
            let mut nearest = 0;
            for y in (0..ny).step_by(2) {
                for x in (0..nx).step_by(2) {
                    // Past the last point of a side it is looked at twice.
                    let point = |lane: usize| {
                        let (i, j, k) = (lane & 1, lane >> 1 & 1, lane >> 2);
                        [(x + i).min(nx - 1), (y + j).min(ny - 1), k.min(layers - 1)]
                    };
                    let mut places = [[0.0; LANES]; 3];
                    for lane in 0..LANES {
                        let [x, y, z] = point(lane);
                        let place = origin + Vec3::new(x as f32, y as f32, (slab * 2 + z) as f32) * cell;
                        for axis in 0..3 {
                            places[axis][lane] = place[axis];
                        }
                    }
                    let distances;
                    (distances, nearest) = nearest_triangles(level, &tree, &places, nearest);
                    for (lane, distance) in distances.into_iter().enumerate() {
                        let [x, y, z] = point(lane);
                        let is_inside = inside.at(x, y, slab * 2 + z);
                        values[(z * ny + y) * nx + x] = if is_inside { -distance } else { distance };
                    }
                }
            }
        });
        DistanceGrid::new(points, origin.to_array(), cell, values)
    }
}

/// A bounding volume hierarchy over triangles, split at the middle of their longest side. A node has a box, and a flat round slab in the
/// plane of its triangles: along a smooth surface a box is much looser than the slab, so more nodes would be visited.
struct Tree {
    nodes: Vec<Node>,
    triangles: Vec<[Vec3; 3]>,
}

struct Node {
    low: Vec3,
    high: Vec3,
    /// The slab: middle, normal, radius and half its thickness.
    middle: Vec3,
    normal: Vec3,
    radius: f32,
    half: f32,
    /// First triangle of a leaf, or the second child of a branch; the first child follows its node.
    first: u32,
    /// Triangles of a leaf; 0 of a branch.
    count: u32,
}

const LEAF: usize = 2;

/// Points that go through the tree together.
const LANES: usize = 8;

kernel! {
    /// Distances of eight positions from the nearest triangles, in metres, and the index of one of these triangles, a good first guess for neighbours.
    fn nearest_triangles(simd, tree: &Tree, places: &[[f32; LANES]; 3], guess: usize) -> ([f32; LANES], usize) {
        tree.nearest(simd, places, guess)
    }
}

impl Tree {
    fn new(surface: &Surface) -> Self {
        let triangles: Vec<[Vec3; 3]> =
            (0..surface.triangles().len()).map(|nth| surface.triangle(nth)).collect();
        let mut tree = Self { nodes: Vec::with_capacity(triangles.len()), triangles };
        let count = tree.triangles.len();
        tree.split(0, count);
        tree
    }

    fn split(&mut self, first: usize, end: usize) {
        let mine = &mut self.triangles[first..end];
        let low = mine.iter().flatten().fold(Vec3::INFINITY, |low, corner| low.min(*corner));
        let high = mine.iter().flatten().fold(Vec3::NEG_INFINITY, |high, corner| high.max(*corner));
        let at = self.nodes.len();
        let corners = || mine.iter().flatten();
        let middle = corners().fold(Vec3::ZERO, |sum, corner| sum + *corner) / (mine.len() * 3) as f32;
        let normal = mine.iter().fold(Vec3::ZERO, |sum, [a, b, c]| sum + (*b - *a).cross(*c - *a));
        let normal = normal.normalize_or(Vec3::Y);
        let (mut radius, mut half) = (0.0f32, 0.0f32);
        for corner in corners() {
            let off = *corner - middle;
            let along = off.dot(normal);
            half = half.max(along.abs());
            radius = radius.max((off - normal * along).length());
        }
        // A little more, so that rounding leaves nothing out.
        let (radius, half) = (radius * 1.0001 + 1e-7, half * 1.0001 + 1e-7);
        let (first_triangle, count) = (first as u32, (end - first) as u32);
        self.nodes.push(Node { low, high, middle, normal, radius, half, first: first_triangle, count });
        if end - first <= LEAF {
            return;
        }
        let extent = high - low;
        let axis = if extent.x >= extent.y && extent.x >= extent.z {
            0
        } else if extent.y >= extent.z {
            1
        } else {
            2
        };
        let middle = |triangle: &[Vec3; 3]| triangle[0][axis] + triangle[1][axis] + triangle[2][axis];
        let half = (end - first) / 2;
        mine.select_nth_unstable_by(half, |a, b| middle(a).total_cmp(&middle(b)));
        self.split(first, first + half);
        let second = self.nodes.len() as u32;
        self.split(first + half, end);
        (self.nodes[at].first, self.nodes[at].count) = (second, 0);
    }

    /// Squared distances from eight positions to their nearest triangles, and a triangle near to all of them. A good guess and neighbouring positions
    /// make it fast: the positions traverse the tree together, and mostly visit the same nodes.
    #[inline(always)]
    fn nearest<S: Simd>(&self, simd: S, places: &[[f32; LANES]; 3], guess: usize) -> ([f32; LANES], usize) {
        let (mut best, mut nearest) = (squares_to(simd, places, &self.triangles[guess]), guess);
        let mut stack = [(0u32, [0.0f32; LANES]); 64];
        let mut depth = 1;
        while depth > 0 {
            depth -= 1;
            let (at, off) = stack[depth];
            if !any_below(simd, &off, &best) {
                continue;
            }
            let node = &self.nodes[at as usize];
            if node.count > 0 {
                let first = node.first as usize;
                for nth in first..first + node.count as usize {
                    let here = squares_to(simd, places, &self.triangles[nth]);
                    if here[0] < best[0] {
                        nearest = nth;
                    }
                    for lane in 0..LANES {
                        best[lane] = best[lane].min(here[lane]);
                    }
                }
                continue;
            }
            let (a, b) = (at + 1, node.first);
            let (off_a, off_b) =
                (self.nodes[a as usize].off(simd, places), self.nodes[b as usize].off(simd, places));
            // The nearer one is opened first. The tree halves, so its depth stays far below the stack's.
            let first_is_nearer = off_a.iter().sum::<f32>() < off_b.iter().sum::<f32>();
            let (near, far) =
                if first_is_nearer { ((a, off_a), (b, off_b)) } else { ((b, off_b), (a, off_a)) };
            for next in [far, near] {
                if any_below(simd, &next.1, &best) {
                    stack[depth] = next;
                    depth += 1;
                }
            }
        }
        (best.map(f32::sqrt), nearest)
    }
}

/// Squared distances from some positions to a triangle: to its plane where they project onto it, else to the nearest edge.
#[inline(always)]
fn squares_to<S: Copy>(_simd: S, [px, py, pz]: &[[f32; LANES]; 3], &[a, b, c]: &[Vec3; 3]) -> [f32; LANES] {
    let normal = (b - a).cross(c - a);
    // A tiny area is only rounding and counts as none: then the edges decide.
    let area = normal.length_squared();
    let per_area = if area > 0.0 { 1.0 / area } else { 0.0 };
    let sides = [(a, b - a), (b, c - b), (c, a - c)].map(|(from, way)| {
        let inwards = normal.cross(way);
        (from.to_array(), way.to_array(), inwards.to_array(), 1.0 / way.length_squared().max(1e-30))
    });
    let normal = normal.to_array();
    let mut out = [0.0; LANES];
    for i in 0..LANES {
        let (mut edge, mut before) = (f32::INFINITY, area > 0.0);
        let mut height = 0.0;
        for (from, way, inwards, per_square) in sides {
            let (x, y, z) = (px[i] - from[0], py[i] - from[1], pz[i] - from[2]);
            before &= x * inwards[0] + y * inwards[1] + z * inwards[2] >= 0.0;
            let share = ((x * way[0] + y * way[1] + z * way[2]) * per_square).clamp(0.0, 1.0);
            let (u, v, w) = (x - way[0] * share, y - way[1] * share, z - way[2] * share);
            edge = edge.min(u * u + v * v + w * w);
            height = x * normal[0] + y * normal[1] + z * normal[2];
        }
        let over = height * height * per_area;
        // A plane tilted by rounding is no better than the edges.
        out[i] = if before { over.min(edge) } else { edge };
    }
    out
}

#[inline(always)]
fn any_below<S: Simd>(_simd: S, off: &[f32; LANES], best: &[f32; LANES]) -> bool {
    let mut any = false;
    for lane in 0..LANES {
        any |= off[lane] < best[lane];
    }
    any
}

impl Node {
    /// Squares of the distances to its box and its slab, whichever is further.
    #[inline(always)]
    fn off<S: Simd>(&self, _simd: S, [px, py, pz]: &[[f32; LANES]; 3]) -> [f32; LANES] {
        let ([lx, ly, lz], [hx, hy, hz]) = (self.low.to_array(), self.high.to_array());
        let ([mx, my, mz], [nx, ny, nz]) = (self.middle.to_array(), self.normal.to_array());
        let (half, radius) = (self.half, self.radius);
        let mut off = [0.0; LANES];
        for i in 0..LANES {
            let beyond = |at: f32, low: f32, high: f32| (low - at).max(at - high).max(0.0);
            let (bx, by, bz) = (beyond(px[i], lx, hx), beyond(py[i], ly, hy), beyond(pz[i], lz, hz));
            let to_box = bx * bx + by * by + bz * bz;
            let (x, y, z) = (px[i] - mx, py[i] - my, pz[i] - mz);
            let along = x * nx + y * ny + z * nz;
            let over = (along.abs() - half).max(0.0);
            let aside = ((x * x + y * y + z * z - along * along).max(0.0).sqrt() - radius).max(0.0);
            // Reduced by the possible rounding error.
            off[i] = to_box.max((over * over + aside * aside) * 0.9999);
        }
        off
    }
}

/// Which points are inside: for each axis a bit a point, set where a ray along it has crossed the surface an odd number of times.
struct Inside {
    points: [usize; 3],
    votes: [Vec<u8>; 3],
}

impl Inside {
    fn new(surface: &Surface, points: [usize; 3], origin: Vec3, cell: f32) -> Self {
        let vote = |axis: usize| votes(surface, points, origin, cell, axis);
        let (x, (y, z)) = rayon::join(|| vote(0), || rayon::join(|| vote(1), || vote(2)));
        Self { points, votes: [x, y, z] }
    }

    fn at(&self, x: usize, y: usize, z: usize) -> bool {
        let [nx, ny, _] = self.points;
        let at = (z * ny + y) * nx + x;
        self.votes.iter().map(|votes| votes[at]).sum::<u8>() >= 2
    }
}

fn votes(surface: &Surface, points: [usize; 3], origin: Vec3, cell: f32, axis: usize) -> Vec<u8> {
    let (u, v) = ((axis + 1) % 3, (axis + 2) % 3);
    let stride = [1, points[0], points[0] * points[1]];
    let mut votes = vec![0u8; points[0] * points[1] * points[2]];
    for nth in 0..surface.triangles().len() {
        let corners =
            surface.triangle(nth).map(|corner| ((corner - origin) / cell).to_array().map(f64::from));
        let flat = corners.map(|corner| [corner[u], corner[v]]);
        let range = |side: usize, count: usize| {
            let least = flat.iter().map(|p| p[side]).fold(f64::INFINITY, f64::min).ceil().max(0.0) as usize;
            let most = flat.iter().map(|p| p[side]).fold(f64::NEG_INFINITY, f64::max).floor();
            let most = if most < 0.0 { 0 } else { (most as usize + 1).min(count) };
            least..most
        };
        for j in range(1, points[v]) {
            for i in range(0, points[u]) {
                let Some(at) = crossing(&corners, &flat, [i as f64, j as f64], axis) else { continue };
                // Every point before the crossing has one more ahead of it.
                let before = (at.ceil().max(0.0) as usize).min(points[axis]);
                let first = i * stride[u] + j * stride[v];
                for k in 0..before {
                    votes[first + k * stride[axis]] ^= 1;
                }
            }
        }
    }
    votes
}

/// Where along the axis a ray through a point of the plane crosses a triangle. Points on an edge belong to one side alone, so that
/// neighbours share no crossing.
fn crossing(corners: &[[f64; 3]; 3], flat: &[[f64; 2]; 3], [x, y]: [f64; 2], axis: usize) -> Option<f64> {
    // Each edge from its lesser corner, so that both triangles at it reckon alike.
    let side = |a: [f64; 2], b: [f64; 2]| {
        let forward = (a[0], a[1]) < (b[0], b[1]);
        let (from, to) = if forward { (a, b) } else { (b, a) };
        let area = (to[0] - from[0]) * (y - from[1]) - (to[1] - from[1]) * (x - from[0]);
        let left = area > 0.0 || (area == 0.0 && (to[0] > from[0]));
        (left == forward, if forward { area } else { -area })
    };
    let (a, wc) = side(flat[0], flat[1]);
    let (b, wa) = side(flat[1], flat[2]);
    let (c, wb) = side(flat[2], flat[0]);
    if a != b || b != c {
        return None;
    }
    let sum = wa + wb + wc;
    if sum == 0.0 {
        return None;
    }
    Some((corners[0][axis] * wa + corners[1][axis] * wb + corners[2][axis] * wc) / sum)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::foundations::simd::Level;

    /// The nearest point of a triangle: Ericson, "Real-Time Collision Detection" (2005), 5.1.5.
    fn nearest_on(p: Vec3, &[a, b, c]: &[Vec3; 3]) -> Vec3 {
        let (ab, ac, ap) = (b - a, c - a, p - a);
        let (d1, d2) = (ab.dot(ap), ac.dot(ap));
        if d1 <= 0.0 && d2 <= 0.0 {
            return a;
        }
        let bp = p - b;
        let (d3, d4) = (ab.dot(bp), ac.dot(bp));
        if d3 >= 0.0 && d4 <= d3 {
            return b;
        }
        let vc = d1 * d4 - d3 * d2;
        if vc <= 0.0 && d1 >= 0.0 && d3 <= 0.0 {
            return a + ab * (d1 / (d1 - d3));
        }
        let cp = p - c;
        let (d5, d6) = (ab.dot(cp), ac.dot(cp));
        if d6 >= 0.0 && d5 <= d6 {
            return c;
        }
        let vb = d5 * d2 - d1 * d6;
        if vb <= 0.0 && d2 >= 0.0 && d6 <= 0.0 {
            return a + ac * (d2 / (d2 - d6));
        }
        let va = d3 * d6 - d5 * d4;
        if va <= 0.0 && d4 - d3 >= 0.0 && d5 - d6 >= 0.0 {
            return b + (c - b) * ((d4 - d3) / ((d4 - d3) + (d5 - d6)));
        }
        let sum = va + vb + vc;
        // A triangle without area that none of the cases above caught.
        if sum <= 0.0 { a } else { a + ab * (vb / sum) + ac * (vc / sum) }
    }

    proptest! {
        /// Lanes equal the search by regions, for triangles without area too.
        #[test]
        fn lanes_equal_the_regions(
            corners in prop::array::uniform3(prop::array::uniform3(-2f32..2.0)), flat in 0u8..4, places in prop::array::uniform3(prop::array::uniform8(-3f32..3.0)),
        ) {
            let [a, mut b, mut c] = corners.map(Vec3::from);
            match flat {
                1 => b = a,
                2 => c = a + (b - a) * 0.3,
                3 => (b, c) = (a, a),
                _ => {}
            }
            let got = squares_to(Level::baseline(), &places, &[a, b, c]);
            for lane in 0..LANES {
                let place = Vec3::new(places[0][lane], places[1][lane], places[2][lane]);
                let to_edge = |from: Vec3, to: Vec3| {
                    let way = to - from;
                    let share = (place - from).dot(way) / way.length_squared().max(1e-30);
                    place.distance(from + way * share.clamp(0.0, 1.0))
                };
                let want = match flat {
                    0 => nearest_on(place, &[a, b, c]).distance(place),
                    _ => to_edge(a, b).min(to_edge(b, c)).min(to_edge(c, a)),
                };
                prop_assert!((got[lane].sqrt() - want).abs() < 2e-3, "{} for {want}", got[lane].sqrt());
            }
        }
    }
}
