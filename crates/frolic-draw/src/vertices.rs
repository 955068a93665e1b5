//! From an element to finished vertices: position, size, colour, light. `batched` lists and the CPU backend call the same
//! functions, so both give the same bits.

use frolic_raster::points::Skin;
use frolic_raster::surfaces::{self, Bend, Paint, Pose, RibbonForm, Wave};
use frolic_raster::tile::Grid;
use frolic_raster::{LANES, Lanes};
use frolic_simd::Level as InstructionSet;
use glam::{Mat3, Vec3};

use crate::atlas::RegionId;
use crate::camera::View;
use crate::detail::{Kept, Level, random};
use crate::list::{DrawList, Entry, Source, Vertex};
use crate::look::{Facing, Form, Look, Play, RibbonSpec};
use crate::mesh::{LANES_OF_PIECES, Mesh, Pieces, facing};

/// Number of finished vertices for one instance of a look in a `batched` list.
pub fn stride(look: &Look) -> usize {
    match &look.form {
        Form::Disc | Form::Billboard { .. } | Form::Sprite { .. } => 4,
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

/// Finished vertices for each point of a skin: two for a ribbon, one for each edge.
pub(crate) fn a_point(look: &Look) -> usize {
    if matches!(look.form, Form::Ribbon(_)) { 2 } else { 1 }
}

/// Points of a skin.
fn skin_points(look: &Look, level: Level) -> usize {
    match &look.form {
        Form::Ribbon(ribbon) => points(ribbon, level),
        Form::Mesh { .. } => mesh(look, level).map_or(0, |mesh| mesh.vertices().len()),
        Form::Disc | Form::Billboard { .. } | Form::Sprite { .. } => 0,
    }
}

/// Writes a skin as finished vertices.
pub(crate) fn store_skin(look: &Look, skin: &Skin, into: &mut [Vertex]) {
    let each = a_point(look);
    for (nth, copies) in into.chunks_exact_mut(each).take(skin.len).enumerate() {
        copies.fill(vertex_of(skin, nth));
        if let [left, right] = copies {
            (left.corner[0], right.corner[0]) = (-1.0, 1.0);
        }
    }
}

/// Reads a skin of a level from finished vertices.
pub(crate) fn load_skin(look: &Look, level: Level, vertices: &[Vertex], skin: &mut Skin) {
    let each = a_point(look);
    take_vertices(skin, &vertices[..skin_points(look, level) * each], each, each > 1);
}

/// A point of the first instance of a skin as a finished vertex.
pub(crate) fn vertex_of(skin: &Skin, nth: usize) -> Vertex {
    let (eight, lane) = skin.point(0, nth);
    let of = |columns: &[Lanes; 3]| columns.map(|column| column[lane]);
    Vertex {
        place: of(&eight.at),
        corner: eight.corner.map(|column| column[lane]),
        radius: eight.radius[lane],
        colour: of(&eight.colour),
        sun: of(&eight.sun),
        opacity: skin.opacity[0],
    }
}

/// Reads the finished vertices of one mesh or ribbon into a skin, every `step`th.
fn take_vertices(skin: &mut Skin, vertices: &[Vertex], step: usize, is_ribbon: bool) {
    skin.opacity = [vertices.first().map_or(0.0, |vertex| vertex.opacity); LANES];
    skin.start(vertices.len() / step, usize::from(is_ribbon));
    for nth in 0..skin.used() * LANES {
        // Unused lanes repeat the last ribbon.
        let point = if is_ribbon { nth / LANES } else { nth.min(skin.len - 1) };
        let vertex = &vertices[point * step];
        let (eight, lane) = (&mut skin.eights[nth / LANES], nth % LANES);
        for axis in 0..3 {
            eight.at[axis][lane] = vertex.place[axis];
            eight.colour[axis][lane] = vertex.colour[axis];
            eight.sun[axis][lane] = vertex.sun[axis];
        }
        for axis in 0..2 {
            eight.corner[axis][lane] = vertex.corner[axis];
        }
        eight.radius[lane] = vertex.radius;
    }
}

/// Triangles of one instance.
pub(crate) fn triangles(look: &Look, level: Level) -> usize {
    match &look.form {
        Form::Disc | Form::Billboard { .. } | Form::Sprite { .. } => 2,
        Form::Ribbon(ribbon) => (points(ribbon, level) - 1) * 2,
        Form::Mesh { .. } if level == Level::Tiny => 1,
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

/// Viewpoint for vertex generation and lighting.
#[derive(Clone, Copy)]
pub(crate) struct Seen<'a, 'l> {
    pub(crate) list: &'a DrawList<'l>,
    /// Billboards and ribbons face this.
    pub(crate) view: &'a View,
    /// The camera, for distances and highlights, in any pass.
    pub(crate) camera: &'a View,
    /// Whether the light of the sun is kept separate, because shadows may fall.
    pub(crate) shadows: bool,
    /// Whether points are lit; for a shadow map only places count.
    pub(crate) lit: bool,
    /// Whether tiny meshes are spots; not among merged vertices, which a device draws as meshes.
    pub(crate) spots: bool,
    /// The tiles of the picture that are drawn; none means all.
    pub(crate) due: Option<Due<'a>>,
}

/// Tiles of a picture that are drawn, where others keep what they have.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Due<'a> {
    pub(crate) grid: &'a Grid,
    /// One for each tile.
    pub(crate) tiles: &'a [bool],
}

/// Bounds of a ball on the screen.
pub(crate) fn ball(view: &View, middle: Vec3, radius: f32) -> [f32; 4] {
    let local = view.local(middle);
    // A spot reaches farther than its mesh.
    let (at, reach) = (view.screen(local), radius * view.scale(local.z) + 2.5);
    [at.x - reach, at.y - reach, at.x + reach, at.y + reach]
}

/// How far an element can reach from its place at most, in metres, by its columns and look alone; `None` where that is not known.
#[inline(always)]
pub(crate) fn farthest(source: &Source<'_>, element: usize) -> Option<f32> {
    let Source { instances, look, .. } = source;
    match (&look.form, instances.poses.bend) {
        (Form::Ribbon(_), Some([length, ..])) => {
            let wide = instances.size(element) * look.largest * look.detail.most_stood_for();
            Some(length[element] * 1.1 + wide)
        }
        (Form::Mesh { fine, coarse, wave: None, .. }, None) => {
            let radius = coarse.as_ref().map_or(0.0, |mesh| mesh.radius()).max(fine.radius());
            let larger = source.detail().most_stood_for().sqrt();
            Some(instances.size(element) * look.largest * radius * larger)
        }
        _ => None,
    }
}

impl Due<'_> {
    /// Whether a ball may touch any of them.
    fn touches(&self, view: &View, middle: Vec3, radius: f32) -> bool {
        self.grid.cover(ball(view, middle, radius)).is_some_and(|tiles| {
            let mut any = false;
            tiles.each(self.grid, |tile| any |= self.tiles[tile]);
            any
        })
    }
}

/// Most that a spot reaches, in radii of its mesh: a triangle with the area of a disc.
const SPOT_REACH: f32 = 1.56;

/// Why an element has no points.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Missing {
    /// Not born yet, dead, too large, or left out by distance.
    LeftOut,
    /// All of it is outside the picture.
    OutOfSight,
}

/// An element before its vertices: position, size, colour.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Body {
    pub(crate) at: Vec3,
    pub(crate) size: f32,
    /// 1, or less while it vanishes.
    left: f32,
    /// Factor on the width, where it stands for other elements.
    wide: f32,
    age: f32,
    colour: [f32; 3],
    pub(crate) opacity: f32,
    random: [f32; 2],
    pub(crate) level: Level,
}

/// Ribbons of one look and of equal length, computed side by side.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct Sheaf {
    pub(crate) ribbons: surfaces::Sheaf,
    pub(crate) levels: [Level; LANES],
    /// Depth of each for sorting, in metres.
    pub(crate) order_depth: Lanes,
}

impl Sheaf {
    /// Whether a ribbon of this level fits.
    #[inline(always)]
    pub(crate) fn takes(&self, level: Level) -> bool {
        let coarse = |level| level != Level::Full;
        self.ribbons.len == 0 || (self.ribbons.len < LANES && coarse(level) == coarse(self.levels[0]))
    }

    /// Adds a ribbon.
    #[inline(always)]
    pub(crate) fn add(&mut self, seen: &Seen<'_, '_>, entry: Entry, body: &Body, [middle, tip]: [Vec3; 2]) {
        let source = &seen.list.sources[entry.source as usize];
        let lane = self.ribbons.len % LANES;
        for axis in 0..3 {
            self.ribbons.curve[0][axis][lane] = body.at[axis];
            self.ribbons.curve[1][axis][lane] = middle[axis];
            self.ribbons.curve[2][axis][lane] = tip[axis];
            self.ribbons.own[axis][lane] = body.colour[axis] * body.opacity;
        }
        if let Some([_, _, _, turn, ..]) = source.instances.poses.bend {
            let (sin, cos) = libm::sincosf(turn[entry.element as usize]);
            (self.ribbons.facing[0][lane], self.ribbons.facing[1][lane]) = (sin, cos);
        }
        self.ribbons.size[lane] = body.size;
        self.ribbons.opacity[lane] = source.look.cover(body.opacity);
        self.order_depth[lane] = seen.view.local(body.at).z;
        self.levels[lane] = body.level;
        self.ribbons.len += 1;
    }
}

impl Seen<'_, '_> {
    /// The body of the element, or `None`: not born yet, dead, or left out by distance.
    pub(crate) fn body(&self, source: &Source<'_>, element: usize) -> Option<Body> {
        let Source { instances, look, .. } = source;
        let at = Vec3::from(instances.place(element));
        let age = instances.age(element);
        // Written so that NaN is not visible.
        let there = at.is_finite() && (0.0..1.0).contains(&age);
        if !there {
            return None;
        }
        let now = look.at(age);
        let detail = source.detail();
        let random = if look.is_tinted() || detail.is_active() || !matches!(look.form, Form::Disc) {
            random(instances.id(element))
        } else {
            [0.0; 2]
        };
        let size = instances.size(element) * now.size;
        let local = self.camera.local(at);
        let kept = if detail.is_active() {
            let pixels = size * self.camera.scale(local.z.max(self.camera.near().max(0.01)));
            detail.keep(random[0], local.length(), pixels)?
        } else {
            Kept::FULL
        };
        let tint = match instances.poses.tint {
            Some(tint) if look.is_tinted() => look.tint_along(tint[element], at.y),
            _ if look.is_tinted() => look.tint(random[1], at.y),
            _ => [1.0; 3],
        };
        let [r, g, b] = now.colour;
        // A blade that stands for others is wider, not longer: the covered area stays the same.
        let wide = if instances.poses.bend.is_some() { kept.left * kept.stands_for } else { kept.size };
        Some(Body {
            at,
            size: size * wide,
            wide,
            left: kept.left,
            age,
            colour: [r * tint[0], g * tint[1], b * tint[2]],
            opacity: now.opacity,
            random,
            level: kept.level,
        })
    }

    /// The common vertex of a disc, which is stored four times, with a corner each.
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
        // Where shadows may fall, the light of the sun is kept separate.
        let apart = self.shadows && (look.solid || matches!(look.form, Form::Billboard { .. }));
        let (colour, sun) = if apart { (own * light, own * sun) } else { (own * (light + sun), Vec3::ZERO) };
        Vertex {
            place: place.to_array(),
            colour: colour.to_array(),
            sun: sun.to_array(),
            opacity: look.cover(body.opacity),
            ..Vertex::default()
        }
    }

    /// Appends the vertices of a billboard or sprite; returns the level, or `None` (and appends nothing) if it is not visible.
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
            Form::Billboard { billboard, .. } => {
                let velocity = source
                    .instances
                    .poses
                    .velocity
                    .map_or(Vec3::ZERO, |[x, y, z]| Vec3::new(x[element], y[element], z[element]));
                let [across, up] =
                    billboard_axes(self.view, billboard.facing, billboard.aspect, &body, velocity);
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

    /// The lit points of a ribbon or mesh; returns the level. With `within`, only meshes that this view sees. Of a tiny mesh, its pieces.
    pub(crate) fn skin(
        &self,
        set: InstructionSet,
        entry: Entry,
        within: Option<&View>,
        skin: &mut Skin,
    ) -> Result<Level, Missing> {
        let source = &self.list.sources[entry.source as usize];
        let (element, look) = (entry.element as usize, source.look);
        let Some(body) = self.sized_body(source, element) else { return Err(Missing::LeftOut) };
        if self.is_tiny(source, &body) {
            return self.tiny(set, source, element, &body, within, skin);
        }
        match &look.form {
            Form::Ribbon(_) => {
                let mut sheaf = Sheaf::default();
                sheaf.add(self, entry, &body, self.curve(source, element, &body));
                self.ribbons(set, look, &sheaf, skin);
            }
            Form::Mesh { .. } => {
                skin.start(skin_points(look, body.level), 0);
                let Some(mesh) = mesh(look, body.level) else { return Err(Missing::LeftOut) };
                // Saves most points of a crowd: those outside the picture.
                let bend = source.instances.poses.bend;
                let swing = look.wave().map_or(0.0, |wave| wave.swing * mesh.stretch()[1]);
                let hidden = |view: &View| !self.may_see(view, body.at, (mesh.radius() + swing) * body.size);
                if bend.is_none() && within.is_some_and(hidden) {
                    return Err(Missing::OutOfSight);
                }
                let [r, g, b] = body.colour.map(|channel| channel * body.opacity);
                skin.own = [[r; LANES], [g; LANES], [b; LANES]];
                skin.opacity = [look.cover(body.opacity); LANES];
                if let Some([length, _, _, turn, ..]) = bend {
                    let [middle, tip] = self.curve(source, element, &body);
                    let bend = Bend {
                        curve: [body.at, middle, tip],
                        turn: turn[element],
                        length: length[element] * body.left,
                        wide: body.wide,
                    };
                    surfaces::bent_mesh(set, skin, mesh.eights(), &bend, self.paint(look).as_ref());
                } else {
                    let turn = self.turn(source, element, &body);
                    let instances = &source.instances;
                    let goes = instances.poses.heading.is_some_and(|heading| heading.way.is_some());
                    let wave = goes.then(|| {
                        wave(
                            look,
                            instances.size(element),
                            instances.velocity(element),
                            instances.way(element),
                        )
                    });
                    let pose = Pose { turn, size: body.size, at: body.at, wave: wave.flatten() };
                    surfaces::mesh(set, skin, mesh.eights(), &pose, self.paint(look).as_ref());
                }
            }
            Form::Disc | Form::Billboard { .. } | Form::Sprite { .. } => return Err(Missing::LeftOut),
        }
        Ok(body.level)
    }

    /// Whether a mesh is drawn as a spot in this view.
    pub(crate) fn is_tiny(&self, source: &Source<'_>, body: &Body) -> bool {
        let look = source.look;
        let Some(mesh) = mesh(look, Level::Full) else { return false };
        if !self.spots || !look.draws_tiny() || source.instances.poses.bend.is_some() {
            return false;
        }
        let depth = self.view.local(body.at).z.max(self.view.near().max(0.01));
        source.detail().is_tiny(body.random[0], mesh.radius() * body.size * self.view.scale(depth))
    }

    /// The pieces of a mesh that is drawn as a spot, lit; the radius of each is the area that it shows, in square metres.
    fn tiny(
        &self,
        set: InstructionSet,
        source: &Source<'_>,
        element: usize,
        body: &Body,
        within: Option<&View>,
        skin: &mut Skin,
    ) -> Result<Level, Missing> {
        let look = source.look;
        let Some(mesh) = mesh(look, Level::Full) else { return Err(Missing::LeftOut) };
        if within.is_some_and(|view| !self.may_see(view, body.at, mesh.radius() * body.size * SPOT_REACH)) {
            return Err(Missing::OutOfSight);
        }
        let Pieces { eights, areas, two_sided } = mesh.pieces();
        skin.start(LANES_OF_PIECES, 0);
        skin.own = body.colour.map(|channel| [channel * body.opacity; LANES]);
        skin.opacity = [look.cover(body.opacity); LANES];
        let pose = Pose { turn: self.turn(source, element, body), size: body.size, at: body.at, wave: None };
        surfaces::mesh(set, skin, eights, &pose, self.paint(look).as_ref());
        let view = self.view;
        let to_eye = if view.level { -view.forward } else { (view.eye - body.at).normalize_or(Vec3::Y) };
        for (eight, areas) in skin.eights().iter_mut().zip(areas) {
            for lane in 0..LANES {
                let [x, y, z] = eight.normal;
                let cosine = x[lane] * to_eye.x + y[lane] * to_eye.y + z[lane] * to_eye.z;
                eight.radius[lane] = areas[lane] * body.size * body.size * facing(cosine, *two_sided);
            }
        }
        Ok(Level::Tiny)
    }

    /// Whether an element is certainly outside the tiles that are drawn, by its place and reach alone.
    #[inline(always)]
    pub(crate) fn is_kept(&self, source: &Source<'_>, element: usize) -> bool {
        let Some(due) = self.due else { return false };
        let Some(reach) = farthest(source, element) else { return false };
        !due.touches(self.view, Vec3::from(source.instances.place(element)), reach)
    }

    /// Whether a ball may be in view, and in tiles that are drawn.
    #[inline(always)]
    fn may_see(&self, view: &View, middle: Vec3, radius: f32) -> bool {
        view.sees_ball(middle, radius) && self.due.is_none_or(|due| due.touches(view, middle, radius))
    }

    /// Whether a ribbon may be in view, and in tiles that are drawn.
    #[inline(always)]
    pub(crate) fn may_see_ribbon(&self, body: &Body, [middle, tip]: [Vec3; 2]) -> bool {
        // A curve is within the triangle of its points.
        let centre = tip * 0.5;
        let reach = centre.length().max((middle - centre).length()) + body.size;
        self.may_see(self.view, body.at + centre, reach)
    }

    /// The body of an element, if it is large enough to be drawn, and not too large.
    #[inline(always)]
    pub(crate) fn sized_body(&self, source: &Source<'_>, element: usize) -> Option<Body> {
        self.body(source, element).filter(|body| body.size > 0.0 && body.size < 1e9)
    }

    /// Lighting and colour of the points of a look; none where they are not lit.
    fn paint<'p>(&'p self, look: &'p Look) -> Option<Paint<'p>> {
        self.lit.then(|| Paint {
            surface: look.surface,
            // Where shadows may fall, the light of the sun is kept separate.
            apart: self.shadows && look.solid,
            hazed: look.hazed,
            along: look.gradient_along(),
            eye: self.camera.eye,
            light: self.list.lighting.plain(),
        })
    }

    /// The lit points of ribbons.
    pub(crate) fn ribbons(&self, set: InstructionSet, look: &Look, sheaf: &Sheaf, skin: &mut Skin) {
        let Form::Ribbon(ribbon) = &look.form else { return };
        let form = RibbonForm { points: points(ribbon, sheaf.levels[0]), tip: ribbon.tip, round: look.round };
        let eye = self.camera.eye;
        surfaces::ribbons(set, skin, &sheaf.ribbons, form, eye, self.paint(look).as_ref());
    }

    /// Control point and tip of a ribbon, relative to its root.
    #[inline(always)]
    pub(crate) fn curve(&self, source: &Source<'_>, element: usize, body: &Body) -> [Vec3; 2] {
        if let Some(curve) = source.instances.curve_of(element, body.left) {
            return curve;
        }
        // Straight, or bent by its tilt.
        let length = if let Form::Ribbon(ribbon) = &source.look.form { ribbon.length } else { 0.0 };
        let tip = self.turn(source, element, body) * Vec3::Y * (length * body.size);
        [Vec3::new(tip.x * 0.25, tip.y * 0.5 + tip.length() * 0.1, tip.z * 0.25), tip]
    }

    /// Rotation of an element; without columns for it, from its random numbers.
    fn turn(&self, source: &Source<'_>, element: usize, body: &Body) -> Mat3 {
        if let Some(heading) = source.instances.poses.heading {
            let bank = heading.bank.map_or(0.0, |bank| bank[element]);
            return along_heading(source.instances.velocity(element).into(), bank);
        }
        let [turn, tilt] = match source.instances.poses.turn {
            Some([turn, tilt]) => [turn[element], tilt[element]],
            None if matches!(source.look.form, Form::Ribbon(_)) => [body.random[0] * TURN, 0.0],
            None => [body.random[0] * TURN, (body.random[1] - 0.5) * TURN],
        };
        let (sin_turn, cos_turn) = libm::sincosf(turn);
        let (sin_tilt, cos_tilt) = libm::sincosf(tilt);
        // About y, then about the turned x axis.
        let x = Vec3::new(cos_turn, 0.0, -sin_turn);
        let z = Vec3::new(sin_turn, 0.0, cos_turn);
        Mat3::from_cols(x, Vec3::Y * cos_tilt + z * sin_tilt, z * cos_tilt - Vec3::Y * sin_tilt)
    }
}

const TURN: f32 = std::f32::consts::TAU;

/// Rotation that turns z along a velocity, and y as far up as that allows; then about z by a bank to the right, in radians.
fn along_heading(velocity: Vec3, bank: f32) -> Mat3 {
    let z = velocity.normalize_or(Vec3::Z);
    let x = Vec3::Y.cross(z).normalize_or(Vec3::X);
    let y = z.cross(x);
    let (sin, cos) = libm::sincosf(bank);
    Mat3::from_cols(x * cos + y * sin, y * cos - x * sin, z)
}

/// Waves along the body of an element of a look that has gone a way, in metres, at a velocity.
pub fn wave(look: &Look, size: f32, velocity: [f32; 3], way: f32) -> Option<Wave> {
    let Form::Mesh { fine, wave: Some(spec), .. } = &look.form else { return None };
    let [front, length] = fine.stretch();
    let speed = Vec3::from(velocity).length();
    // Something is left of it when it glides.
    let strength = (speed / spec.speed).clamp(0.15, 1.0);
    let turns = way / (spec.beat * length * size).max(1e-9);
    Some(Wave {
        front,
        per_length: 1.0 / length.max(1e-9),
        count: spec.count,
        swing: spec.swing * length * strength,
        turns: turns - turns.floor(),
    })
}

/// Corners of a texture from its upper left, clockwise as seen.
pub(crate) const CORNERS: [[f32; 2]; 4] = [[0.0, 0.0], [1.0, 0.0], [1.0, 1.0], [0.0, 1.0]];

/// Half axes of a billboard across and up, in metres.
fn billboard_axes(view: &View, facing: Facing, aspect: f32, body: &Body, velocity: Vec3) -> [Vec3; 2] {
    let seen = [velocity.dot(view.right), velocity.dot(view.up)];
    let speed = libm::sqrtf(seen[0] * seen[0] + seen[1] * seen[1]);
    let (turn, longer) = match facing {
        Facing::Camera => (0.0, 0.0),
        Facing::Spin { rate } => {
            // An element that lives for ever has no age in seconds; its texture then stands still.
            let degrees = rate.at(body.random[0]) * body.age;
            (body.random[1] * TURN + degrees.to_radians(), 0.0)
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

/// Position in a flipbook of `count` frames, for an element of an age (share of its life) and key, at a time in seconds.
pub fn flipbook_at(play: Play, count: u32, age: f32, id: u32, time: f32) -> f32 {
    let count = count as f32;
    match play {
        // The last frame is reached before the end of the life.
        Play::Age => (age.clamp(0.0, 1.0) * count).min(count - 1.0),
        Play::Clock { rate } => {
            let at = time * rate + random(id)[0] * count;
            at - (at / count).floor() * count
        }
        Play::Pick => (random(id)[1] * count).min(count - 1.0).floor(),
    }
}

/// The frames of a flipbook to show: one, the next, and the share of the next.
pub(crate) fn frames(list: &DrawList<'_>, entry: Entry) -> (RegionId, RegionId, f32) {
    let source = &list.sources[entry.source as usize];
    let Form::Billboard { sheet, billboard } = &source.look.form else {
        return (RegionId(0), RegionId(0), 0.0);
    };
    let element = entry.element as usize;
    let id = source.instances.id(element);
    let count = sheet.len();
    let at = flipbook_at(billboard.play, count, source.instances.age(element), id, list.time);
    let whole = at.floor().max(0.0);
    let mix = if billboard.blend_frames { at - whole } else { 0.0 };
    (sheet.frame(whole as u32), sheet.frame(whole as u32 + 1), mix)
}
