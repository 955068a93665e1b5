//! Input of the rasteriser: five kinds of records, in pixels.
//!
//! | record | from |
//! | --- | --- |
//! | [`Dot`] | a disc |
//! | [`Quad`] | a sprite, or a transparent billboard: a plane rectangle looked up per pixel |
//! | [`Triangle`] | a triangle of a solid mesh without a texture |
//! | [`Facet`] | any other triangle of a mesh, or half of a solid billboard |
//! | [`Strip`] | up to three segments of a ribbon |

use frolic_raster::LANES;
use frolic_raster::camera::Camera;
use frolic_raster::colour9::pack;
use frolic_raster::points::{self, Eight, Skin};
use frolic_raster::quads::{self, Frame, Shown, TileRows};
use frolic_raster::record::{Facet, Label, Outlined, PLAIN, Record, Strip, Triangle};
use frolic_raster::samples::SAMPLES;
use frolic_raster::sections::{self, Sections};
use frolic_raster::triangles::{self, Wanted};
use frolic_simd::Level as InstructionSet;
use glam::{Vec2, Vec3};
use smallvec::SmallVec;

use crate::camera::View;
use crate::detail::Level;
use crate::list::{DrawList, Entry, Vertex};
use crate::look::{Blend, Form};
use crate::sprite::Fill;
use crate::vertices::{Seen, frames, mesh, vertex_of};

/// A rectangle in space, in perspective. With d = (x, y, 1) in pixels, u = d·u / d·q and v = d·v / d·q run 0..1 across and down it,
/// and d·q is one over the depth (1 on the screen).
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Quad {
    pub(super) u: [f32; 3],
    pub(super) v: [f32; 3],
    pub(super) q: [f32; 3],
    /// Least x and y, greatest x and y, in pixels.
    pub extent: [f32; 4],
    /// Colour times opacity; opacity: 0 is additive.
    pub(super) light: [f32; 3],
    /// Additional light of the sun, where no shadow falls.
    pub(super) sun: [f32; 3],
    pub(super) cover: f32,
    pub(super) order_depth: f32,
    /// Its element in the list.
    pub(super) entry: Entry,
    pub(super) label: Label,
}
impl Record for Quad {
    const ALONE: bool = true;

    #[inline(always)]
    fn label(&self) -> Label {
        self.label
    }
    #[inline(always)]
    fn order_depth(&self) -> f32 {
        self.order_depth
    }
}

impl Outlined for Quad {
    #[inline(always)]
    fn bounds(&self) -> [f32; 4] {
        self.extent
    }
    #[inline(always)]
    fn set_label(&mut self, label: Label) {
        self.label = label;
    }
}

impl Quad {
    /// Ready to be looked up; `None` if its texture is in no atlas.
    pub fn painted<'l>(&self, list: &DrawList<'l>, view: &View) -> Option<quads::Quad<'l>> {
        let source = &list.sources[self.entry.source as usize];
        let (look, textures) = (source.look, source.look.atlas.textures());
        let sprite = source.instances.sprites.get(self.entry.element as usize);
        let shown = match &look.form {
            Form::Billboard { .. } => match frames(list, self.entry) {
                (one, _, 0.0) => Shown::Picture(textures, textures.region(one)?),
                (one, next, mix) => {
                    Shown::Mixed(textures, [textures.region(one)?, textures.region(next)?], mix)
                }
            },
            Form::Sprite { .. } => match sprite?.fill {
                Fill::Plain => Shown::Plain,
                Fill::Picture(region) => Shown::Picture(textures, textures.region(region)?),
                Fill::Tiles(map) => {
                    let map = look.atlas.map(map)?;
                    let frames = [map.sheet.frame(0).number(), map.sheet.len()];
                    Shown::Tiles(TileRows { textures, size: map.size, tiles: &map.tiles, frames })
                }
            },
            _ => Shown::Plain,
        };
        let frame = sprite.filter(|sprite| sprite.corner > 0.0 || sprite.border > 0.0).map(|sprite| {
            let size = sprite.size.map(f32::abs);
            let [r, g, b, a] = sprite.border_tint;
            let cover = if look.blend == Blend::Additive { 0.0 } else { a };
            Frame {
                size,
                corner: sprite.corner.clamp(0.0, size[0].min(size[1]) * 0.5),
                border: sprite.border,
                paint: [r * a, g * a, b * a, cover],
            }
        });
        let on_screen = look.is_on_screen();
        let Self { u, v, q, extent, light, sun, cover, .. } = *self;
        Some(quads::Quad {
            u,
            v,
            q,
            extent,
            near: if on_screen { 0.0 } else { view.near() },
            light,
            sun,
            cover,
            shown,
            frame,
            per_soft: (look.depth.test && !on_screen).then_some(look.per_soft),
        })
    }
}

/// Records of one instance that is not a disc.
#[derive(Debug, Default)]
pub struct Shapes {
    /// Rectangles.
    pub quads: Vec<Quad>,
    /// Plain solid triangles.
    pub triangles: Vec<Triangle>,
    /// Triangles with a texture or an opacity.
    pub facets: Vec<Facet>,
    /// Segments of ribbons.
    pub strips: Vec<Strip>,
    sections: Sections,
}

impl Shapes {
    pub(super) fn clear(&mut self) {
        self.quads.clear();
        self.triangles.clear();
        self.facets.clear();
        self.strips.clear();
    }

    /// Appends the records of a billboard or sprite from its vertices.
    pub(super) fn add(&mut self, list: &DrawList<'_>, view: &View, entry: Entry, vertices: &[Vertex]) {
        let source = &list.sources[entry.source as usize];
        let look = source.look;
        let order_depth = view.local(Vec3::from(source.instances.place(entry.element as usize))).z;
        match &look.form {
            Form::Disc | Form::Mesh { .. } | Form::Ribbon(_) => {}
            Form::Sprite { on_screen } => {
                self.quads.extend(quad(view, *on_screen, vertices, entry, order_depth));
            }
            Form::Billboard { .. } if !look.solid => {
                self.quads.extend(quad(view, false, vertices, entry, order_depth));
            }
            Form::Billboard { .. } => {
                let (region, ..) = frames(list, entry);
                let mut billboard = Facets { view, region: region.0, order_depth, into: &mut self.facets };
                billboard.add([vertices[0], vertices[1], vertices[2]]);
                billboard.add([vertices[0], vertices[2], vertices[3]]);
            }
        }
    }

    /// Computes what the ribbons of a skin share; [`Shapes::add_ribbon`] then adds them one by one.
    pub(super) fn start_ribbons(
        &mut self,
        set: InstructionSet,
        camera: &Camera,
        skin: &mut Skin,
        coloured: bool,
    ) {
        points::project(set, skin, camera, coloured);
        sections::take(set, &mut self.sections, skin);
    }

    /// Appends the records of one ribbon of a skin; parts nearer than `near`, in metres, are clipped.
    pub(super) fn add_ribbon(
        &mut self,
        set: InstructionSet,
        near: f32,
        skin: &Skin,
        ribbon: usize,
        order_depth: f32,
    ) {
        sections::append(set, &self.sections, near, skin, ribbon, order_depth, &mut self.strips);
    }

    /// Appends the records of a ribbon or mesh from its points.
    pub(super) fn add_skin(
        &mut self,
        set: InstructionSet,
        seen: &Seen<'_, '_>,
        entry: Entry,
        level: Level,
        skin: &mut Skin,
    ) {
        let &Seen { list, view, lit, .. } = seen;
        let source = &list.sources[entry.source as usize];
        let look = source.look;
        let order_depth = view.local(Vec3::from(source.instances.place(entry.element as usize))).z;
        let camera = view.camera();
        match &look.form {
            Form::Ribbon(_) => {
                self.start_ribbons(set, &camera, skin, lit);
                self.add_ribbon(set, camera.near, skin, 0, order_depth);
            }
            Form::Mesh { .. } if level == Level::Tiny => {
                points::project(set, skin, &camera, lit);
                self.triangles.extend(spot(skin));
            }
            Form::Mesh { texture, .. } => {
                points::project(set, skin, &camera, lit);
                let Some(mesh) = mesh(look, level) else { return };
                let region = texture.map_or(PLAIN, |sheet| sheet.first().0);
                // Back faces are hidden, unless they show through holes.
                let turned_away = mesh.is_closed() && look.blend != Blend::CutOut;
                if look.solid && region == PLAIN && skin.in_front == [1.0; LANES] {
                    // Nothing is lit for a shadow map.
                    let samples = if lit { SAMPLES } else { 1 };
                    let wanted =
                        Wanted { triangles: mesh.triangles(), turned_away, samples, size: view.size.sides() };
                    triangles::append(set, skin, &wanted, &mut self.triangles);
                    return;
                }
                if skin.in_front != [1.0; LANES] {
                    let mut facets = Facets { view, region, order_depth, into: &mut self.facets };
                    for triangle in mesh.triangles() {
                        facets.add(triangle.map(|index| vertex_of(skin, usize::from(index))));
                    }
                    return;
                }
                for triangle in mesh.triangles() {
                    let facet = skin_facet(skin, *triangle, region, order_depth, turned_away, view.level);
                    self.facets.extend(facet);
                }
            }
            Form::Disc | Form::Billboard { .. } | Form::Sprite { .. } => {}
        }
    }
}

/// A triangle as large as what the pieces of a tiny mesh show, in their mean place and colour; none if they show nothing.
fn spot(skin: &Skin) -> Option<Triangle> {
    let (mut area, mut x, mut y, mut near, mut scale) = (0.0, 0.0, 0.0, 0.0, 0.0);
    let (mut base, mut sun) = (Vec3::ZERO, Vec3::ZERO);
    for nth in 0..skin.len {
        let (eight, lane) = skin.point(0, nth);
        let shown = eight.radius[lane];
        if shown <= 0.0 {
            continue;
        }
        area += shown;
        x += eight.x[lane] * shown;
        y += eight.y[lane] * shown;
        near += eight.near[lane] * shown;
        scale += eight.scale[lane] * shown;
        base += Vec3::from(eight.colour.map(|column| column[lane])) * shown;
        sun += Vec3::from(eight.sun.map(|column| column[lane])) * shown;
    }
    let seen = area > 0.0 && skin.in_front == [1.0; LANES];
    if !seen {
        return None;
    }
    let per = 1.0 / area;
    let opacity = if skin.opacity[0] > 0.0 { skin.opacity[0] } else { 1.0 };
    let colour = |sum: Vec3| pack((sum * (per / opacity)).to_array());
    let (x, y, near, scale) = (x * per, y * per, near * per, scale * per);
    // Of an equilateral triangle: from the middle to a corner.
    let reach = (area * scale * scale * (4.0 / (3.0 * 1.732_050_8))).sqrt();
    let corners = [[0.0, -1.0], [0.866_025_4, 0.5], [-0.866_025_4, 0.5]];
    let spot = Triangle {
        x: corners.map(|[across, _]| x + across * reach),
        y: corners.map(|[_, down]| y + down * reach),
        near: [near; 3],
        base: [colour(base); 3],
        sun: [colour(sun); 3],
        ..Triangle::default()
    };
    spot.extent().iter().all(|end| end.is_finite()).then_some(spot)
}

/// The facet of three points that are all in front of the camera.
#[inline(always)]
fn skin_facet(
    skin: &Skin,
    triangle: [u16; 3],
    region: u32,
    order_depth: f32,
    turned_away: bool,
    level: bool,
) -> Option<Facet> {
    let points = triangle.map(|index| skin.point(0, usize::from(index)));
    let of = |column: fn(&Eight) -> &[f32; LANES]| points.map(|(eight, lane)| column(eight)[lane]);
    let (x, y) = (of(|eight| &eight.x), of(|eight| &eight.y));
    // Anticlockwise in space is clockwise on the screen, whose y runs down.
    let flat = (x[1] - x[0]) * (y[2] - y[0]) - (x[2] - x[0]) * (y[1] - y[0]);
    let seen = if turned_away { flat < 0.0 } else { flat != 0.0 };
    let near = of(|eight| &eight.near);
    let corner = |(eight, lane): (&Eight, usize)| eight.corner.map(|column| column[lane]);
    let uv = if region == PLAIN { [[0.0; 2]; 3] } else { points.map(corner) };
    let facet = Facet {
        x,
        y,
        near,
        base: points.map(|(eight, lane)| eight.base[lane]),
        sun: points.map(|(eight, lane)| eight.sunny[lane]),
        uv,
        region,
        opacity: skin.opacity[0],
        order_depth,
        label: Label::default(),
        level,
    };
    (seen && facet.extent().iter().all(|v| v.is_finite())).then_some(facet)
}

/// The rectangle that four vertices span; none if it is not visible.
fn quad(view: &View, on_screen: bool, vertices: &[Vertex], entry: Entry, order_depth: f32) -> Option<Quad> {
    let place = |nth: usize| Vec3::from(vertices[nth].place);
    let light = vertices[0].colour;
    let cover = vertices[0].opacity;
    let sun = vertices[0].sun;
    let quad = Quad { light, sun, cover, order_depth, entry, ..Quad::default() };
    if on_screen {
        let place = |nth: usize| place(nth) * view.per_pixel();
        let (o, a, b) = (place(0), place(1) - place(0), place(3) - place(0));
        let det = a.x * b.y - a.y * b.x;
        let per = 1.0 / det;
        if !per.is_finite() {
            return None;
        }
        // u and v by Cramer's rule.
        let u = [b.y * per, -b.x * per, (b.x * o.y - b.y * o.x) * per];
        let v = [-a.y * per, a.x * per, (a.y * o.x - a.x * o.y) * per];
        let corners = [0, 1, 2, 3].map(|nth| place(nth).truncate());
        return Some(Quad { u, v, q: [0.0, 0.0, 1.0], extent: around(&corners, 1.0), ..quad });
    }
    let local = [0, 1, 2, 3].map(|nth| view.local(place(nth)));
    let (o, a, b) = (local[0], local[1] - local[0], local[3] - local[0]);
    // A point of the plane is o + u a + v b = t d for the ray d through a pixel. Triple products with d, which is linear in the
    // pixel's place, give u, v and 1/t as quotients.
    let n = a.cross(b);
    let per = 1.0 / o.dot(n);
    let [cx, cy] = view.middle();
    let linear = |w: Vec3| [w.x / view.focal, -w.y / view.focal, w.z - (cx * w.x - cy * w.y) / view.focal];
    let (u, v, q) = (linear(b.cross(o) * per), linear(o.cross(a) * per), linear(n * per));
    if !per.is_finite() || local.iter().all(|corner| corner.z <= view.near()) {
        return None;
    }
    let extent = if local.iter().all(|corner| corner.z > view.near()) {
        around(&local.map(|corner| view.screen(corner)), 1.0)
    } else {
        // Part of it is behind the camera: its bounds are unknown.
        [0.0, 0.0, view.size.width() as f32, view.size.height() as f32]
    };
    Some(Quad { u, v, q, extent, ..quad })
}

/// The box around places, widened by `margin` pixels.
fn around(places: &[Vec2], margin: f32) -> [f32; 4] {
    let low = places.iter().fold(Vec2::INFINITY, |low, place| low.min(*place)) - margin;
    let high = places.iter().fold(Vec2::NEG_INFINITY, |high, place| high.max(*place)) + margin;
    [low.x, low.y, high.x, high.y]
}

/// Turns triangles in space into facets.
struct Facets<'a> {
    view: &'a View,
    region: u32,
    order_depth: f32,
    into: &'a mut Vec<Facet>,
}

impl Facets<'_> {
    /// Adds a triangle, clipped at the near plane (Sutherland and Hodgman, "Reentrant Polygon Clipping", 1974).
    fn add(&mut self, triangle: [Vertex; 3]) {
        let near = self.view.near();
        let local = triangle.map(|vertex| self.view.local(Vec3::from(vertex.place)));
        if local.iter().all(|at| at.z > near) {
            self.push(triangle, local);
            return;
        }
        let mut kept: SmallVec<[(Vertex, Vec3); 4]> = SmallVec::new();
        for nth in 0..3 {
            let (here, next) = (nth, (nth + 1) % 3);
            if local[here].z > near {
                kept.push((triangle[here], local[here]));
            }
            if (local[here].z > near) != (local[next].z > near) {
                // Slightly beyond the plane, so that clipped points are in front of it.
                let edge = near * 1.0001;
                let t = (edge - local[here].z) / (local[next].z - local[here].z);
                let at = local[here].lerp(local[next], t);
                kept.push((between(&triangle[here], &triangle[next], t), Vec3::new(at.x, at.y, edge)));
            }
        }
        for nth in 2..kept.len() {
            let [a, b, c] = [kept[0], kept[nth - 1], kept[nth]];
            self.push([a.0, b.0, c.0], [a.1, b.1, c.1]);
        }
    }

    fn push(&mut self, triangle: [Vertex; 3], local: [Vec3; 3]) {
        let at = local.map(|local| self.view.screen(local));
        let near = local.map(|local| nearness(self.view, local.z));
        // Colours are those of the surface itself: opacity is applied to the whole.
        let strength = triangle[0].opacity.max(1e-6);
        let own =
            |colour: [f32; 3]| if triangle[0].opacity > 0.0 { colour.map(|c| c / strength) } else { colour };
        let facet = Facet {
            x: at.map(|at| at.x),
            y: at.map(|at| at.y),
            near,
            base: triangle.map(|vertex| pack(own(vertex.colour))),
            sun: triangle.map(|vertex| pack(own(vertex.sun))),
            uv: triangle.map(|vertex| vertex.corner),
            region: self.region,
            opacity: triangle[0].opacity,
            order_depth: self.order_depth,
            label: Label::default(),
            level: self.view.level,
        };
        let flat = (at[1] - at[0]).perp_dot(at[2] - at[0]);
        if flat != 0.0 && facet.extent().iter().all(|v| v.is_finite()) {
            self.into.push(facet);
        }
    }
}

/// Depth buffer value: greater is nearer, and linear across the screen.
#[inline(always)]
pub(super) fn nearness(view: &View, depth: f32) -> f32 {
    if view.level { -depth } else { 1.0 / depth }
}

fn between(a: &Vertex, b: &Vertex, t: f32) -> Vertex {
    let mix = |a: f32, b: f32| a + (b - a) * t;
    let mix3 = |a: [f32; 3], b: [f32; 3]| [mix(a[0], b[0]), mix(a[1], b[1]), mix(a[2], b[2])];
    Vertex {
        place: mix3(a.place, b.place),
        corner: [mix(a.corner[0], b.corner[0]), mix(a.corner[1], b.corner[1])],
        radius: mix(a.radius, b.radius),
        colour: mix3(a.colour, b.colour),
        sun: mix3(a.sun, b.sun),
        opacity: mix(a.opacity, b.opacity),
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use frolic_raster::record::{Dot, FARTHEST, Splat};

    /// Value of the upper half of a float.
    fn half(bits: u32) -> f32 {
        f32::from_bits(bits & 0xffff_0000)
    }

    proptest! {
        /// A dot equals its splat: position to within rounding, light and cover within 1/250, first pixel the first within the radius.
        #[test]
        fn a_dot_equals_its_splat(
            x in -90f32..1400.0, y in -90f32..900.0, radius in 0.5f32..80.0, light in prop::array::uniform3(0f32..20.0), cover in 0f32..1.0,
        ) {
            let splat = Splat { x, y, radius, depth: 7.0, light, cover };
            let dot = Dot::new(&splat, Label { rank: 3, tag: 5 });
            for (axis, at) in [x, y].into_iter().enumerate() {
                let middle = f32::from(dot.first[axis]) + 0.5;
                prop_assert!((middle - dot.offset[axis] - at).abs() < 1e-3);
                let away = at - middle;
                prop_assert!(away <= radius + 1e-3 && away > radius - 1.001, "{away} of {radius}");
            }
            let [red_green, blue_cover] = dot.paint;
            let kept = [half(red_green), half(red_green << 16), half(blue_cover), half(blue_cover << 16)];
            for (kept, was) in kept.into_iter().zip([light[0], light[1], light[2], cover]) {
                prop_assert!((kept - was).abs() <= was / 250.0, "{kept} for {was}");
            }
            prop_assert!((dot.per_r2 * radius * radius - 1.0).abs() < 1e-5);
            prop_assert_eq!((dot.depth, dot.label), (7.0, Label { rank: 3, tag: 5 }));
        }
    }

    /// At any size and place: the first pixel is clamped to sixteen bits, and the centre is unchanged.
    #[test]
    fn a_dot_larger_than_any_picture_keeps_its_middle() {
        for (x, radius) in [(640.0, 1e6), (-9000.0, 2e5), (12_000.0, 4e7)] {
            let splat = Splat { x, y: 10.0, radius, depth: 1.0, light: [1.0; 3], cover: 0.0 };
            let dot = Dot::new(&splat, Label::default());
            assert_eq!(f32::from(dot.first[0]), -FARTHEST);
            assert_eq!(-FARTHEST + 0.5 - dot.offset[0], x);
        }
    }
}
