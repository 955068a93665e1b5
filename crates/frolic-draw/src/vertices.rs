//! From an element to finished vertices: place, size, colour, light. What `batched` merges and what the CPU backend works
//! out for itself while drawing are these same functions, so both give the same bits.

use fearless_simd::f32x8;
use fearless_simd::prelude::*;
use glam::{Mat3, Vec3};

use crate::atlas::RegionId;
use crate::camera::View;
use crate::cpu::LANES;
use crate::detail::{Kept, Level, dice};
use crate::list::{DrawList, Entry, Source, Vertex};
use crate::look::{Facing, Form, Look, Play, RibbonSpec};
use crate::mesh::Mesh;
use crate::skin::{Lanes, Skin, cross, keep, load, splat, unit};

/// Finished vertices that one instance of a look takes, as `batched` merges them.
pub fn stride(look: &Look) -> usize {
    match &look.form {
        Form::Disc | Form::Card { .. } | Form::Sprite { .. } => 4,
        Form::Ribbon(ribbon) => points(ribbon, Level::Full) * 2,
        Form::Mesh { fine, coarse, .. } => {
            fine.vertices().len().max(coarse.as_ref().map_or(0, |mesh| mesh.vertices().len()))
        }
    }
}

/// Whether instances of a look are points of a [`Skin`]; others are discs, or have four vertices.
pub(crate) fn in_points(look: &Look) -> bool {
    matches!(look.form, Form::Ribbon(_) | Form::Mesh { .. })
}

/// Finished vertices for each point of a skin: a ribbon's come twice, once for each edge.
pub(crate) fn a_point(look: &Look) -> usize {
    if matches!(look.form, Form::Ribbon(_)) { 2 } else { 1 }
}

/// Points of a skin.
fn skin_points(look: &Look, level: Level) -> usize {
    match &look.form {
        Form::Ribbon(ribbon) => points(ribbon, level),
        Form::Mesh { .. } => mesh(look, level).map_or(0, |mesh| mesh.vertices().len()),
        Form::Disc | Form::Card { .. } | Form::Sprite { .. } => 0,
    }
}

/// Writes a skin out as finished vertices.
pub(crate) fn store_skin(look: &Look, skin: &Skin, into: &mut [Vertex]) {
    let each = a_point(look);
    for (nth, copies) in into.chunks_exact_mut(each).take(skin.len).enumerate() {
        copies.fill(skin.vertex(nth));
        if let [left, right] = copies {
            (left.corner[0], right.corner[0]) = (-1.0, 1.0);
        }
    }
}

/// Takes a skin of a level in from finished vertices.
pub(crate) fn load_skin(look: &Look, level: Level, vertices: &[Vertex], skin: &mut Skin) {
    let each = a_point(look);
    skin.load(&vertices[..skin_points(look, level) * each], each, each > 1);
}

/// Triangles of one instance.
pub(crate) fn triangles(look: &Look, level: Level) -> usize {
    match &look.form {
        Form::Disc | Form::Card { .. } | Form::Sprite { .. } => 2,
        Form::Ribbon(ribbon) => (points(ribbon, level) - 1) * 2,
        Form::Mesh { .. } => mesh(look, level).map_or(0, |mesh| mesh.triangles().len()),
    }
}

/// Points along a ribbon: a third of the segments when coarse.
pub(crate) fn points(ribbon: &RibbonSpec, level: Level) -> usize {
    let segments = if level == Level::Full { ribbon.segments } else { ribbon.segments.div_ceil(3) };
    segments as usize + 1
}

/// The mesh of a look at a level.
pub(crate) fn mesh(look: &Look, level: Level) -> Option<&Mesh> {
    let Form::Mesh { fine, coarse, .. } = &look.form else { return None };
    Some(coarse.as_ref().filter(|_| level != Level::Full).unwrap_or(fine))
}

/// Who asks for vertices: from where things are seen, and from where lit.
#[derive(Clone, Copy)]
pub(crate) struct Seen<'a, 'l> {
    pub(crate) list: &'a DrawList<'l>,
    /// What billboards and ribbons turn to.
    pub(crate) view: &'a View,
    /// The camera: distances and highlights are seen from here, whoever asks.
    pub(crate) camera: &'a View,
    /// Whether the sun's light is kept apart, as shadows may fall.
    pub(crate) shadows: bool,
}

/// Why an element has no points.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Missing {
    /// Not born yet, dead, too large, or left out by distance.
    LeftOut,
    /// All of it is beside the picture.
    OutOfSight,
}

/// An element before its vertices: where, how large, which colour.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Body {
    pub(crate) at: Vec3,
    pub(crate) size: f32,
    /// 1, or less on its way out.
    left: f32,
    /// How much wider it is than by itself, as it stands for others.
    wide: f32,
    age: f32,
    colour: [f32; 3],
    pub(crate) opacity: f32,
    dice: [f32; 2],
    pub(crate) level: Level,
}

/// Ribbons of one look, and as many points, that are worked out side by side.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct Sheaf {
    pub(crate) len: usize,
    pub(crate) levels: [Level; LANES],
    /// Depth that each is sorted by, m.
    pub(crate) order_depth: Lanes,
    /// Root, control point and tip; the last two from the root.
    curve: [[Lanes; 3]; 3],
    size: Lanes,
    own: [Lanes; 3],
    opacity: Lanes,
    /// The way that blades are turned, along x and z; 0 where ribbons face the eye.
    facing: [Lanes; 2],
}

impl Sheaf {
    /// Whether one of this level has room in it.
    #[inline(always)]
    pub(crate) fn takes(&self, level: Level) -> bool {
        let coarse = |level| level != Level::Full;
        self.len == 0 || (self.len < LANES && coarse(level) == coarse(self.levels[0]))
    }

    /// Adds a ribbon.
    #[inline(always)]
    pub(crate) fn add(&mut self, seen: &Seen<'_, '_>, entry: Entry, body: &Body) {
        let source = &seen.list.sources[entry.source as usize];
        let [middle, tip] = seen.curve(source, entry.element as usize, body);
        let lane = self.len % LANES;
        for axis in 0..3 {
            self.curve[0][axis][lane] = body.at[axis];
            self.curve[1][axis][lane] = middle[axis];
            self.curve[2][axis][lane] = tip[axis];
            self.own[axis][lane] = body.colour[axis] * body.opacity;
        }
        if let Some([_, _, _, turn, ..]) = source.instances.blades {
            let (sin, cos) = libm::sincosf(turn[entry.element as usize]);
            (self.facing[0][lane], self.facing[1][lane]) = (sin, cos);
        }
        self.size[lane] = body.size;
        self.opacity[lane] = source.look.cover(body.opacity);
        self.order_depth[lane] = seen.view.local(body.at).z;
        self.levels[lane] = body.level;
        self.len += 1;
    }
}

impl Seen<'_, '_> {
    /// The element's body, or `None` if it is not there: not born yet, dead, or left out by distance.
    pub(crate) fn body(&self, source: &Source<'_>, element: usize) -> Option<Body> {
        let Source { instances, look, .. } = source;
        let at = Vec3::from(instances.place(element));
        let age = instances.age(element);
        // Written so that what is not a number is not seen.
        let there = at.is_finite() && (0.0..1.0).contains(&age);
        if !there {
            return None;
        }
        let now = look.at(age);
        let dice = if look.is_tinted() || look.detail.is_active() || !matches!(look.form, Form::Disc) {
            dice(instances.id(element))
        } else {
            [0.0; 2]
        };
        let size = instances.size(element) * now.size;
        let local = self.camera.local(at);
        let kept = if look.detail.is_active() {
            let pixels = size * self.camera.scale(local.z.max(self.camera.near().max(0.01)));
            look.detail.keep(dice[0], local.length(), pixels)?
        } else {
            Kept::FULL
        };
        let tint = match instances.tint {
            Some(tint) if look.is_tinted() => look.tint_along(tint[element], at.y),
            _ if look.is_tinted() => look.tint(dice[1], at.y),
            _ => [1.0; 3],
        };
        let [r, g, b] = now.colour;
        // A blade that stands for others is wider, not longer: as much is covered.
        let wide = if instances.blades.is_some() { kept.left * kept.stands_for } else { kept.size };
        Some(Body {
            at,
            size: size * wide,
            wide,
            left: kept.left,
            age,
            colour: [r * tint[0], g * tint[1], b * tint[2]],
            opacity: now.opacity,
            dice,
            level: kept.level,
        })
    }

    /// The vertex that stands for a disc, four times over but for its corners.
    pub(crate) fn disc(&self, source: &Source<'_>, element: usize) -> Vertex {
        let Some(body) = self.body(source, element) else { return Vertex::default() };
        let light = self.list.lighting.on_soft(source.look.lit, body.at);
        let colour = Vec3::from(body.colour) * light * body.opacity;
        let opacity = source.look.cover(body.opacity);
        Vertex {
            place: body.at.to_array(),
            radius: body.size,
            colour: colour.to_array(),
            opacity,
            ..Vertex::default()
        }
    }

    /// A vertex of a surface, lit.
    fn lit(&self, look: &Look, body: &Body, place: Vec3, normal: Vec3, along: f32) -> Vertex {
        let factor = look.along(along);
        let own = Vec3::from(body.colour) * Vec3::from(factor) * body.opacity;
        let [light, sun] = self.list.lighting.on_surface(look.surface, place, normal, self.camera.eye);
        // Where shadows may fall on it, the sun's part is kept apart.
        let apart = self.shadows && (look.solid || matches!(look.form, Form::Card { .. }));
        let (colour, sun) = if apart { (own * light, own * sun) } else { (own * (light + sun), Vec3::ZERO) };
        Vertex {
            place: place.to_array(),
            colour: colour.to_array(),
            sun: sun.to_array(),
            opacity: look.cover(body.opacity),
            ..Vertex::default()
        }
    }

    /// Appends the vertices of a card or sprite; returns the level, or `None` (and appends nothing) if it is not there.
    pub(crate) fn vertices(&self, entry: Entry, into: &mut Vec<Vertex>) -> Option<Level> {
        let source = &self.list.sources[entry.source as usize];
        let element = entry.element as usize;
        let look = source.look;
        if let Form::Sprite { on_screen } = look.form {
            return self.sprite(source, element, on_screen, into);
        }
        let body = self.body(source, element)?;
        if !(body.size > 0.0 && body.size < 1e9) {
            return None;
        }
        match &look.form {
            Form::Card { card, .. } => {
                let velocity = source
                    .instances
                    .velocity
                    .map_or(Vec3::ZERO, |[x, y, z]| Vec3::new(x[element], y[element], z[element]));
                let [across, up] = card_axes(self.view, card.facing, card.aspect, &body, velocity);
                let normal = -self.view.forward;
                for [u, v] in CORNERS {
                    let place = body.at + across * (u * 2.0 - 1.0) - up * (v * 2.0 - 1.0);
                    let vertex = self.lit(look, &body, place, normal, 1.0 - v);
                    into.push(Vertex { corner: [u, v], ..vertex });
                }
            }
            Form::Disc | Form::Ribbon(_) | Form::Mesh { .. } | Form::Sprite { .. } => {}
        }
        Some(body.level)
    }

    fn sprite(
        &self,
        source: &Source<'_>,
        element: usize,
        on_screen: bool,
        into: &mut Vec<Vertex>,
    ) -> Option<Level> {
        let sprite = &source.instances.sprites[element];
        let [origin, across, down] = sprite.frame(self.view, on_screen);
        let [r, g, b, opacity] = sprite.tint;
        let sound = origin.is_finite() && across.is_finite() && down.is_finite() && (r + g + b).is_finite();
        let opacity = opacity.clamp(0.0, 1.0);
        let seen = sound && opacity > 0.0 && across.length_squared().max(down.length_squared()) < 1e18;
        if !seen {
            return None;
        }
        let look = source.look;
        let normal = across.cross(down).normalize_or(Vec3::Y);
        let [light, sun] = if on_screen {
            [Vec3::ONE, Vec3::ZERO]
        } else {
            let middle = origin + (across + down) * 0.5;
            self.list.lighting.on_surface(look.surface, middle, normal, self.camera.eye)
        };
        let own = Vec3::new(r, g, b).max(Vec3::ZERO) * Vec3::from(look.at(0.0).colour) * opacity;
        let (colour, sun) =
            if self.shadows { (own * light, own * sun) } else { (own * (light + sun), Vec3::ZERO) };
        for [u, v] in CORNERS {
            into.push(Vertex {
                place: (origin + across * u + down * v).to_array(),
                corner: [u, v],
                colour: colour.to_array(),
                sun: sun.to_array(),
                opacity: look.cover(opacity),
                ..Vertex::default()
            });
        }
        Some(Level::Full)
    }

    /// The lit points of a ribbon or mesh; returns the level. Of meshes only those that `within` can see, if that is given.
    #[inline(always)]
    pub(crate) fn skin<S: Simd>(
        &self,
        simd: S,
        entry: Entry,
        within: Option<&View>,
        skin: &mut Skin,
    ) -> Result<Level, Missing> {
        let source = &self.list.sources[entry.source as usize];
        let (element, look) = (entry.element as usize, source.look);
        let Some(body) = self.sized_body(source, element) else { return Err(Missing::LeftOut) };
        match &look.form {
            Form::Ribbon(_) => {
                let mut sheaf = Sheaf::default();
                sheaf.add(self, entry, &body);
                self.ribbons(simd, look, &sheaf, skin);
                return Ok(body.level);
            }
            Form::Mesh { .. } => {
                skin.start(skin_points(look, body.level), 0);
                let Some(mesh) = mesh(look, body.level) else { return Err(Missing::LeftOut) };
                // Most of a crowd's points are never worked out: those beside the picture.
                let bends = source.instances.blades.is_some();
                let hidden = |view: &View| !view.sees_ball(body.at, mesh.radius() * body.size);
                if !bends && within.is_some_and(hidden) {
                    return Err(Missing::OutOfSight);
                }
                let turn = self.turn(source, element, &body);
                let [r, g, b] = body.colour.map(|channel| channel * body.opacity);
                skin.own = [[r; LANES], [g; LANES], [b; LANES]];
                skin.opacity = [look.cover(body.opacity); LANES];
                if bends {
                    self.bend(simd, source, element, &body, mesh, skin);
                    self.light(simd, look, skin);
                    return Ok(body.level);
                }
                for (eight, own) in skin.eights().iter_mut().zip(mesh.eights()) {
                    let [x, y, z] = turned(&turn, load(simd, &own.position));
                    let size = body.size;
                    let at = [x * size + body.at.x, y * size + body.at.y, z * size + body.at.z];
                    keep(at, &mut eight.at);
                    keep(turned(&turn, load(simd, &own.normal)), &mut eight.normal);
                    eight.corner = own.uv;
                }
            }
            Form::Disc | Form::Card { .. } | Form::Sprite { .. } => return Err(Missing::LeftOut),
        }
        self.light(simd, look, skin);
        Ok(body.level)
    }

    /// The points of a mesh that is a blade: as long as the blade from its origin to height 1, bent along its curve.
    #[inline(always)]
    fn bend<S: Simd>(
        &self,
        simd: S,
        source: &Source<'_>,
        element: usize,
        body: &Body,
        mesh: &Mesh,
        skin: &mut Skin,
    ) {
        let Some([length, _, _, turn, ..]) = source.instances.blades else { return };
        let [middle, tip] = self.curve(source, element, body);
        let (middle, tip, root) = (splat(simd, middle), splat(simd, tip), splat(simd, body.at));
        let (sin, cos) = libm::sincosf(turn[element]);
        let side = splat(simd, Vec3::new(cos, 0.0, -sin));
        let length = length[element] * body.left;
        let (zero, one) = (f32x8::splat(simd, 0.0), f32x8::splat(simd, 1.0));
        for (eight, own) in skin.eights().iter_mut().zip(mesh.eights()) {
            let [x, y, z] = load(simd, &own.position);
            let t = y.max(zero).min(one);
            let (mut at, along) = on_curve(simd, [root, middle, tip], t);
            // Its own axes there: along the curve, and square to it.
            let along = unit(simd, along);
            let front = unit(simd, cross(side, along));
            let right = cross(along, front);
            let (x, z, beyond) = (x * (length * body.wide), z * (length * body.wide), (y - t) * length);
            let [nx, ny, nz] = load(simd, &own.normal);
            let mut normal = along;
            for axis in 0..3 {
                at[axis] = at[axis] + right[axis] * x + front[axis] * z + along[axis] * beyond;
                normal[axis] = right[axis] * nx + along[axis] * ny + front[axis] * nz;
            }
            keep(at, &mut eight.at);
            keep(normal, &mut eight.normal);
            eight.corner = own.uv;
        }
    }

    /// The body of an element that is large enough to be drawn, and not too large.
    #[inline(always)]
    pub(crate) fn sized_body(&self, source: &Source<'_>, element: usize) -> Option<Body> {
        self.body(source, element).filter(|body| body.size > 0.0 && body.size < 1e9)
    }

    /// Colours of points.
    #[inline(always)]
    fn light<S: Simd>(&self, simd: S, look: &Look, skin: &mut Skin) {
        let own = load(simd, &skin.own);
        // Where shadows may fall on it, the sun's part is kept apart.
        let apart = self.shadows && look.solid;
        let is_ribbon = skin.ribbons > 0;
        let (eye, opacity) = (self.camera.eye, skin.opacity);
        for eight in skin.eights() {
            let (at, normal) = (load(simd, &eight.at), load(simd, &eight.normal));
            let [light, sun] =
                self.list.lighting.on_surfaces(simd, look.surface, at, normal, self.camera.eye);
            let mut factor = [f32x8::splat(simd, 1.0); 3];
            if look.varies_along() && is_ribbon {
                // All lanes are as far along.
                factor = splat(simd, Vec3::from(look.along(eight.corner[1][0])));
            } else if look.varies_along() {
                let mut lanes = [[0.0; LANES]; 3];
                for lane in 0..LANES {
                    // A mesh runs from the lower edge of its texture to the upper.
                    let own = look.along(1.0 - eight.corner[1][lane]);
                    (lanes[0][lane], lanes[1][lane], lanes[2][lane]) = (own[0], own[1], own[2]);
                }
                factor = load(simd, &lanes);
            }
            let (mut colour, mut sunlit) = (light, sun);
            for channel in 0..3 {
                let own = factor[channel] * own[channel];
                if apart {
                    colour[channel] = own * light[channel];
                    sunlit[channel] = own * sun[channel];
                } else {
                    colour[channel] = own * (light[channel] + sun[channel]);
                    sunlit[channel] = f32x8::splat(simd, 0.0);
                }
            }
            if look.hazed > 0.0 {
                let (tone, per) = self.list.lighting.haze;
                let off = [at[0] - eye.x, at[1] - eye.y, at[2] - eye.z];
                let x = (off[0] * off[0] + off[1] * off[1] + off[2] * off[2]).sqrt() * (per * look.hazed);
                // Of e^-x, to a fiftieth where anything is left to be seen.
                let one = f32x8::splat(simd, 1.0);
                let left = one / (one + x * (one + x * (x * (x * (1.0 / 24.0) + 1.0 / 6.0) + 0.5)));
                let veil = (one - left) * f32x8::load_array(simd, opacity);
                for (channel, tone) in tone.to_array().into_iter().enumerate() {
                    colour[channel] = colour[channel] * left + veil * tone;
                    sunlit[channel] *= left;
                }
            }
            keep(colour, &mut eight.colour);
            keep(sunlit, &mut eight.sun);
        }
    }

    /// The lit points of ribbons.
    #[inline(always)]
    pub(crate) fn ribbons<S: Simd>(&self, simd: S, look: &Look, sheaf: &Sheaf, skin: &mut Skin) {
        let Form::Ribbon(ribbon) = &look.form else { return };
        skin.start(points(ribbon, sheaf.levels[0]), sheaf.len);
        (skin.own, skin.opacity) = (sheaf.own, sheaf.opacity);
        let last = (skin.len - 1) as f32;
        let [root, middle, tip] = &sheaf.curve;
        let (root, middle, tip) = (load(simd, root), load(simd, middle), load(simd, tip));
        let size = f32x8::load_array(simd, sheaf.size);
        let eye = self.camera.eye;
        let one = f32x8::splat(simd, 1.0);
        let faces = sheaf.facing != [[0.0; LANES]; 2];
        for (nth, eight) in skin.eights().iter_mut().enumerate() {
            let t = f32x8::splat(simd, nth as f32 / last);
            let (at, tangent) = on_curve(simd, [root, middle, tip], t);
            let side = cross(tangent, [eye.x - at[0], eye.y - at[1], eye.z - at[2]]);
            keep(at, &mut eight.at);
            let to_eye = unit(simd, cross(side, tangent));
            let normal = if faces {
                // The blade's own flat side, square to its way and to its width; bent towards the eye where it is round.
                let [x, z] =
                    [f32x8::load_array(simd, sheaf.facing[0]), f32x8::load_array(simd, sheaf.facing[1])];
                let zero = f32x8::splat(simd, 0.0);
                let flat = unit(simd, cross([z, zero, zero - x], tangent));
                let seen = flat[0] * to_eye[0] + flat[1] * to_eye[1] + flat[2] * to_eye[2];
                let sign = seen.simd_lt(zero).select(zero - one, one);
                let (own, round) = (sign * (1.0 - look.round), f32x8::splat(simd, look.round));
                unit(simd, [0, 1, 2].map(|axis| flat[axis] * own + to_eye[axis] * round))
            } else {
                to_eye
            };
            keep(normal, &mut eight.normal);
            t.store_slice(&mut eight.corner[1]);
            ((one + t * (ribbon.tip - 1.0)) * size).store_slice(&mut eight.radius);
        }
        self.light(simd, look, skin);
    }

    /// Control point and tip of a ribbon, from its root.
    #[inline(always)]
    fn curve(&self, source: &Source<'_>, element: usize, body: &Body) -> [Vec3; 2] {
        if let Some(curve) = source.instances.curve_of(element, body.left) {
            return curve;
        }
        // A straight one, or one that hangs over by its tilt.
        let length = if let Form::Ribbon(ribbon) = &source.look.form { ribbon.length } else { 0.0 };
        let tip = self.turn(source, element, body) * Vec3::Y * (length * body.size);
        [Vec3::new(tip.x * 0.25, tip.y * 0.5 + tip.length() * 0.1, tip.z * 0.25), tip]
    }

    /// How an element is turned; one without columns for it, by its random numbers.
    fn turn(&self, source: &Source<'_>, element: usize, body: &Body) -> Mat3 {
        let [turn, tilt] = match source.instances.turn {
            Some([turn, tilt]) => [turn[element], tilt[element]],
            None if matches!(source.look.form, Form::Ribbon(_)) => [body.dice[0] * TURN, 0.0],
            None => [body.dice[0] * TURN, (body.dice[1] - 0.5) * TURN],
        };
        let (sin_turn, cos_turn) = libm::sincosf(turn);
        let (sin_tilt, cos_tilt) = libm::sincosf(tilt);
        // About y, then about the x axis that this gives.
        let x = Vec3::new(cos_turn, 0.0, -sin_turn);
        let z = Vec3::new(sin_turn, 0.0, cos_turn);
        Mat3::from_cols(x, Vec3::Y * cos_tilt + z * sin_tilt, z * cos_tilt - Vec3::Y * sin_tilt)
    }
}

/// Places on quadratic curves of root, control point and tip (the last two from the root), and half the derivative there.
#[inline(always)]
fn on_curve<S: Simd>(
    simd: S,
    [root, middle, tip]: [[f32x8<S>; 3]; 3],
    t: f32x8<S>,
) -> ([f32x8<S>; 3], [f32x8<S>; 3]) {
    let one = f32x8::splat(simd, 1.0);
    let (of_middle, of_tip, way) = (t * 2.0 * (one - t), t * t, one - t * 2.0);
    let (mut at, mut tangent) = (root, tip);
    for axis in 0..3 {
        at[axis] = root[axis] + middle[axis] * of_middle + tip[axis] * of_tip;
        tangent[axis] = middle[axis] * way + tip[axis] * t;
    }
    (at, tangent)
}

#[inline(always)]
fn turned<S: Simd>(turn: &Mat3, v: [f32x8<S>; 3]) -> [f32x8<S>; 3] {
    let Mat3 { x_axis: x, y_axis: y, z_axis: z } = turn;
    [
        v[0] * x.x + v[1] * y.x + v[2] * z.x,
        v[0] * x.y + v[1] * y.y + v[2] * z.y,
        v[0] * x.z + v[1] * y.z + v[2] * z.z,
    ]
}

const TURN: f32 = std::f32::consts::TAU;

/// Corners of a texture from its upper left, clockwise as seen.
pub(crate) const CORNERS: [[f32; 2]; 4] = [[0.0, 0.0], [1.0, 0.0], [1.0, 1.0], [0.0, 1.0]];

/// Half axes of a card across and up, m.
fn card_axes(view: &View, facing: Facing, aspect: f32, body: &Body, velocity: Vec3) -> [Vec3; 2] {
    let seen = [velocity.dot(view.right), velocity.dot(view.up)];
    let speed = libm::sqrtf(seen[0] * seen[0] + seen[1] * seen[1]);
    let (turn, longer) = match facing {
        Facing::Camera => (0.0, 0.0),
        Facing::Spin { rate } => {
            // Its age in seconds is not at hand where it lives for ever; then it stands still.
            let degrees = rate.at(body.dice[0]) * body.age;
            (body.dice[1] * TURN + degrees.to_radians(), 0.0)
        }
        Facing::Heading | Facing::Stretch { .. } if speed < 1e-6 => (0.0, 0.0),
        Facing::Heading => (libm::atan2f(-seen[0], seen[1]), 0.0),
        Facing::Stretch { seconds } => (libm::atan2f(-seen[0], seen[1]), speed * seconds * 0.5),
    };
    let (sin, cos) = libm::sincosf(turn);
    let across = view.right * cos + view.up * sin;
    let up = view.up * cos - view.right * sin;
    [across * body.size, up * (body.size * aspect + longer)]
}

/// The frames of a card's flipbook to show: one, the next, and how much of the next.
pub(crate) fn frames(list: &DrawList<'_>, entry: Entry) -> (RegionId, RegionId, f32) {
    let source = &list.sources[entry.source as usize];
    let Form::Card { sheet, card } = &source.look.form else { return (RegionId(0), RegionId(0), 0.0) };
    let element = entry.element as usize;
    let id = source.instances.id(element);
    let count = sheet.len();
    let at = match card.play {
        // The last frame is reached at the end of life, and not passed.
        Play::Age => (source.instances.age(element).clamp(0.0, 1.0) * count as f32).min(count as f32 - 1.0),
        Play::Clock { rate } => {
            let start = dice(id)[0] * count as f32;
            let at = list.time * rate + start;
            at - (at / count as f32).floor() * count as f32
        }
        Play::Pick => (dice(id)[1] * count as f32).min(count as f32 - 1.0).floor(),
    };
    let whole = at.floor().max(0.0);
    let mix = if card.melt { at - whole } else { 0.0 };
    (sheet.frame(whole as u32), sheet.frame(whole as u32 + 1), mix)
}
