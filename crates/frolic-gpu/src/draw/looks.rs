//! Looks, meshes and atlases on the device, uploaded on first use and kept.

use std::collections::HashMap;
use std::collections::hash_map::Entry;
use std::sync::Arc;

use frolic_draw::backend::{Form, LookParts};
use frolic_draw::{Atlas, Blend, Facing, Look, Mesh, Play, RegionId, RibbonSpec};
use half::f16;

use crate::device::error::GpuError;
use crate::device::{DeviceCounters, Gpu, upload};
use crate::shared::flag;
use crate::shared::look::{
    ADDITIVE, ALONG, BILLBOARD, CUT_OUT, DEPTH_TEST, DETAIL, DISC, Draw, FACING_CAMERA, FACING_HEADING,
    FACING_SPIN, FACING_STRETCH, LAGGING, LISTED, LIT_BY_SCENE, MERGED, MESH, NONE, ON_SCREEN, OVER_HEIGHT,
    PLAY_CLOCK, PLAY_LIFE, PLAY_PICK, RANDOM, RIBBON, SHADOWED, SPRITE, TINTED,
};

/// Size of the tables in words beyond which they are rebuilt.
const MOST_WORDS: usize = 32 << 20;

/// Location of a mesh in the tables: first index, number of indices, first vertex.
#[derive(Debug, Clone, Copy, Default)]
struct MeshAt {
    index: u32,
    count: u32,
    vertex: u32,
}

/// Locations of a look's tables.
#[derive(Debug, Default)]
struct LookAt {
    over_age: u32,
    over_height: u32,
    along: u32,
    tints: u32,
    fine: MeshAt,
    coarse: MeshAt,
    /// Kept alive, so that no other mesh gets the same address.
    _meshes: Vec<Arc<Mesh>>,
}

/// An atlas on the device.
#[derive(Debug)]
pub(crate) struct AtlasOn {
    atlas: Arc<Atlas>,
    pub(crate) regions: wgpu::Buffer,
    pub(crate) pages: Vec<wgpu::TextureView>,
    /// First word of each tile map in `regions`.
    maps: Vec<u32>,
}

/// Tables of all looks in use.
#[derive(Debug)]
pub(crate) struct Looks {
    words: Vec<u32>,
    written: usize,
    pub(crate) tables: wgpu::Buffer,
    looks: HashMap<u64, LookAt>,
    atlases: HashMap<usize, AtlasOn>,
    /// Changes when bind groups become invalid.
    pub(crate) generation: u64,
}

/// Differences between the batches of one look.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct Slot {
    /// Vectors of four words in a record.
    pub(crate) stride: u32,
    pub(crate) lag: f32,
    pub(crate) listed: bool,
    /// Vertices of an instance in a merged list; 0 for instanced draws.
    pub(crate) corners: u32,
    /// First word of merged vertices, first record, and vertices of each instance.
    pub(crate) merged_at: u32,
    pub(crate) first: u32,
    pub(crate) each: u32,
    /// Number of elements, or the word of the counters that holds it.
    pub(crate) count: u32,
    /// Vertices of an instance in an indirect call.
    pub(crate) span: u32,
    /// Whether sunlight is kept apart.
    pub(crate) shadows: bool,
    /// Of trails: the newest of `stride` positions, and the share of the last segment.
    pub(crate) newest: u32,
    pub(crate) trail_end: f32,
    /// Of elements along their heading: 1 over the length of a step, or 0.
    pub(crate) per_step: f32,
}

impl Looks {
    pub(crate) fn new(gpu: &Gpu) -> Self {
        Self {
            words: Vec::new(),
            written: 0,
            tables: tables(gpu, 1 << 16),
            looks: HashMap::new(),
            atlases: HashMap::new(),
            generation: 0,
        }
    }

    /// Drops unused atlases, and tables that have grown too large.
    pub(crate) fn tidy(&mut self) {
        let before = self.atlases.len();
        self.atlases.retain(|_, on| Arc::strong_count(&on.atlas) > 1);
        if self.words.len() > MOST_WORDS {
            self.words.clear();
            self.written = 0;
            self.looks.clear();
            self.generation += 1;
        }
        self.generation += u64::from(self.atlases.len() != before);
    }

    /// Ensures that a look is in the tables.
    pub(crate) fn meet(
        &mut self,
        gpu: &Gpu,
        look: &Look,
        counters: &mut DeviceCounters,
    ) -> Result<(), GpuError> {
        let parts = look.parts();
        let atlas = Arc::as_ptr(parts.atlas) as usize;
        if let Entry::Vacant(place) = self.atlases.entry(atlas) {
            place.insert(AtlasOn::new(gpu, parts.atlas, counters)?);
            self.generation += 1;
        }
        if !self.looks.contains_key(&parts.key) {
            let at = self.add(&parts);
            self.looks.insert(parts.key, at);
        }
        Ok(())
    }

    /// Uploads new tables.
    pub(crate) fn flush(&mut self, gpu: &Gpu, counters: &mut DeviceCounters) -> Result<(), GpuError> {
        if self.written == self.words.len() {
            return Ok(());
        }
        let bytes = self.words.len() as u64 * 4;
        if bytes > gpu.binding() {
            return Err(GpuError::TooLarge {
                what: "meshes and looks",
                wanted: bytes,
                most: gpu.binding(),
                instead: "use smaller meshes, or draw on the CPU",
            });
        }
        if bytes > self.tables.size() {
            self.tables = tables(gpu, bytes.next_power_of_two().min(gpu.binding()));
            self.written = 0;
            self.generation += 1;
        }
        upload(gpu, &self.tables, self.written as u64, &self.words[self.written..], counters);
        self.written = self.words.len();
        Ok(())
    }

    /// Bytes held on the device.
    pub(crate) fn bytes(&self) -> u64 {
        let atlases: u64 = self.atlases.values().map(|on| on.atlas.bytes() as u64 + on.regions.size()).sum();
        self.tables.size() + atlases
    }

    /// The atlas of a look.
    pub(crate) fn atlas(&self, look: &Look) -> Option<&AtlasOn> {
        self.atlases.get(&(Arc::as_ptr(look.parts().atlas) as usize))
    }

    /// The atlas at an address.
    pub(crate) fn atlas_at(&self, address: usize) -> Option<&AtlasOn> {
        self.atlases.get(&address)
    }

    /// Adds vectors of four words. Returns the index of the first.
    fn rows(&mut self, rows: impl IntoIterator<Item = [f32; 4]>) -> u32 {
        let at = self.words.len() / 4;
        self.words.extend(rows.into_iter().flatten().map(f32::to_bits));
        at as u32
    }

    fn mesh(&mut self, mesh: &Mesh) -> MeshAt {
        let vertices = mesh.vertices().iter().flat_map(|vertex| {
            let ([x, y, z], [a, b, c]) = (vertex.position.to_array(), vertex.normal.to_array());
            [[x, y, z, vertex.uv.x], [a, b, c, vertex.uv.y]]
        });
        let vertex = self.rows(vertices) / 2;
        // A vertex is two rows, and indexed by pairs.
        let index = self.words.len() as u32;
        self.words.extend(mesh.triangles().iter().flatten().map(|&index| u32::from(index)));
        self.words.resize(self.words.len().next_multiple_of(8), 0);
        MeshAt { index, count: mesh.triangles().len() as u32 * 3, vertex }
    }

    fn add(&mut self, look: &LookParts<'_>) -> LookAt {
        let over_age = self.rows(look.over_age.iter().flat_map(|now| {
            let [r, g, b] = now.colour;
            [[r, g, b, now.opacity], [now.size, 0.0, 0.0, 0.0]]
        }));
        let four = |rows: &[[f32; 3]]| rows.iter().map(|&[r, g, b]| [r, g, b, 0.0]).collect::<Vec<_>>();
        let over_height = self.rows(four(look.over_height.unwrap_or_default()));
        let along = self.rows(four(look.along.unwrap_or_default()));
        let tints = self.rows(four(look.tints));
        // Vertices are indexed by pairs of rows.
        self.words.resize(self.words.len().next_multiple_of(8), 0);
        let mut at = LookAt {
            over_age,
            over_height,
            along,
            tints,
            fine: MeshAt::default(),
            coarse: MeshAt::default(),
            _meshes: Vec::new(),
        };
        if let Form::Mesh { fine, coarse, .. } = look.form {
            at.fine = self.mesh(fine);
            at.coarse = coarse.as_ref().map_or(at.fine, |mesh| self.mesh(mesh));
            at._meshes.extend([Some(fine), coarse.as_ref()].into_iter().flatten().cloned());
        }
        at
    }

    /// The uniform of a batch.
    pub(crate) fn draw(&self, look: &Look, slot: &Slot) -> Draw {
        let parts = look.parts();
        let none = LookAt::default();
        let at = self.looks.get(&parts.key).unwrap_or(&none);
        let (surface, detail) = (parts.surface, parts.detail);
        let shape = ShapeFields::of(parts.form);
        let (wave, [front, body_length]) = match parts.form {
            Form::Mesh { fine, wave: Some(wave), .. } => {
                ([wave.swing, wave.count, wave.beat, wave.speed], fine.stretch())
            }
            _ => ([0.0; 4], [0.0; 2]),
        };
        Draw {
            stride: slot.stride,
            lag: slot.lag,
            corners: slot.corners,
            form: shape.form,
            lit: surface.lit,
            rim: surface.rim,
            translucency: surface.translucency,
            gloss: surface.gloss,
            two_sided: flag(surface.two_sided),
            per_soft: parts.per_soft,
            tints: parts.tints.len() as u32,
            flags: flags(look, slot),
            over_age: at.over_age,
            over_height: at.over_height,
            along: at.along,
            tint_at: at.tints,
            height_low: parts.height[0],
            per_height: parts.height[1],
            reach: detail.reach,
            edge: detail.edge,
            thin_below: detail.thin_below,
            coarse_below: detail.coarse_below,
            facing: shape.facing,
            face_a: shape.face[0],
            face_b: shape.face[1],
            aspect: shape.aspect,
            play: shape.play,
            rate: shape.rate,
            blend_frames: flag(shape.blend_frames),
            sheet_first: shape.sheet[0],
            sheet_count: shape.sheet[1],
            region: shape.region,
            length: shape.ribbon.length,
            tip: shape.ribbon.tip,
            points: shape.ribbon.segments + 1,
            points_coarse: shape.ribbon.segments.div_ceil(3) + 1,
            merged_at: slot.merged_at,
            fine_index: at.fine.index,
            fine_count: at.fine.count,
            coarse_index: at.coarse.index,
            coarse_count: at.coarse.count,
            fine_vertex: at.fine.vertex,
            coarse_vertex: at.coarse.vertex,
            first: slot.first,
            each: slot.each,
            // Elements outside of the picture may still cast shadows into it.
            cull_reach: if slot.shadows && look.is_solid() { EVERYWHERE } else { reach(look) },
            ages: parts.over_age.len() as u32,
            steps: rows_of(&parts),
            count: slot.count,
            span: slot.span,
            closed: closed(look),
            newest: slot.newest,
            trail_end: slot.trail_end,
            density: detail.density,
            round: parts.round,
            hazed: parts.hazed,
            come_from: detail.from,
            onset: detail.onset,
            per_step: slot.per_step,
            swing: wave[0],
            waves: wave[1],
            beat: wave[2],
            swim_speed: wave[3],
            front,
            body_length,
        }
    }

    /// Vertices of an instance: in a strip or list of its own, and in a merged list.
    pub(crate) fn span(&self, look: &Look) -> [u32; 2] {
        match look.parts().form {
            Form::Ribbon(ribbon) => [(ribbon.segments + 1) * 2, ribbon.segments * 6],
            Form::Mesh { .. } => {
                let at = self.looks.get(&look.parts().key);
                let count = at.map_or(0, |at| at.fine.count.max(at.coarse.count));
                [count, count]
            }
            _ => [4, 6],
        }
    }
}

/// A radius larger than any picture.
const EVERYWHERE: f32 = 1e30;

/// Flags of a batch, which its shaders are compiled for.
pub(crate) fn flags(look: &Look, slot: &Slot) -> u32 {
    let parts = look.parts();
    let tinted = !parts.tints.is_empty();
    let detailed = parts.detail.is_active();
    [
        (parts.over_height.is_some(), OVER_HEIGHT),
        (parts.along.is_some(), ALONG),
        (detailed, DETAIL),
        (slot.shadows && is_shadowed(look), SHADOWED),
        (look.is_on_screen(), ON_SCREEN),
        (tinted, TINTED),
        (slot.listed, LISTED),
        (slot.corners > 0, MERGED),
        (parts.depth.test, DEPTH_TEST),
        (parts.blend == Blend::CutOut, CUT_OUT),
        (parts.surface.lit > 0.0, LIT_BY_SCENE),
        (parts.blend == Blend::Additive, ADDITIVE),
        (slot.lag != 0.0, LAGGING),
        (tinted || detailed || !matches!(parts.form, Form::Disc), RANDOM),
    ]
    .into_iter()
    .filter_map(|(on, flag)| on.then_some(flag))
    .sum()
}

/// Rows of a gradient; 1 without a gradient.
fn rows_of(parts: &LookParts<'_>) -> u32 {
    parts.over_height.or(parts.along).map_or(1, |rows| rows.len() as u32)
}

/// Distance that an element of size 1 reaches from its position, without its curve.
fn reach(look: &Look) -> f32 {
    match look.parts().form {
        Form::Disc | Form::Sprite { .. } => 1.0,
        // Stretched billboards are longer, by less than a hundred sizes.
        Form::Billboard { billboard, .. } if matches!(billboard.facing, Facing::Stretch { .. }) => 100.0,
        Form::Billboard { billboard, .. } => 1.5 * billboard.aspect.max(1.0),
        Form::Ribbon(ribbon) => ribbon.length * 1.5 + 1.0,
        Form::Mesh { fine, coarse, .. } => {
            fine.radius().max(coarse.as_ref().map_or(0.0, |mesh| mesh.radius()))
        }
        _ => 1.0,
    }
}

/// Returns whether shadows fall on it: on solid surfaces, billboards, and sprites in the world.
pub(crate) fn is_shadowed(look: &Look) -> bool {
    look.is_solid() || matches!(look.parts().form, Form::Billboard { .. } | Form::Sprite { on_screen: false })
}

/// Bits: whether the fine, and the coarse mesh are closed.
pub(crate) fn closed(look: &Look) -> u32 {
    let parts = look.parts();
    match parts.form {
        // Holes show the inside.
        Form::Mesh { fine, coarse, .. } if parts.blend != Blend::CutOut => {
            let coarse = coarse.as_ref().unwrap_or(fine);
            u32::from(fine.is_closed()) | u32::from(coarse.is_closed()) << 1
        }
        _ => 0,
    }
}

/// The fields of `Draw` that depend on the shape.
struct ShapeFields {
    form: u32,
    facing: u32,
    face: [f32; 2],
    aspect: f32,
    play: u32,
    rate: f32,
    blend_frames: bool,
    sheet: [u32; 2],
    region: u32,
    ribbon: RibbonSpec,
}

impl ShapeFields {
    fn of(form: &Form) -> Self {
        let mut shape = Self {
            form: DISC,
            facing: FACING_CAMERA,
            face: [0.0; 2],
            aspect: 1.0,
            play: PLAY_LIFE,
            rate: 0.0,
            blend_frames: false,
            sheet: [0, 1],
            region: NONE,
            ribbon: RibbonSpec::new(1.0, 0.0, 1),
        };
        match form {
            Form::Billboard { sheet, billboard } => {
                shape.form = BILLBOARD;
                (shape.facing, shape.face) = match billboard.facing {
                    Facing::Spin { rate } => (FACING_SPIN, [rate.min, rate.max]),
                    Facing::Heading => (FACING_HEADING, [0.0; 2]),
                    Facing::Stretch { seconds } => (FACING_STRETCH, [seconds, 0.0]),
                    _ => (FACING_CAMERA, [0.0; 2]),
                };
                (shape.play, shape.rate) = match billboard.play {
                    Play::Clock { rate } => (PLAY_CLOCK, rate),
                    Play::Pick => (PLAY_PICK, 0.0),
                    _ => (PLAY_LIFE, 0.0),
                };
                (shape.aspect, shape.blend_frames) = (billboard.aspect, billboard.blend_frames);
                shape.sheet = [sheet.frame(0).number(), sheet.len()];
            }
            Form::Ribbon(ribbon) => (shape.form, shape.ribbon) = (RIBBON, *ribbon),
            Form::Mesh { texture, .. } => {
                shape.form = MESH;
                shape.region = texture.map_or(NONE, |sheet| sheet.frame(0).number());
            }
            Form::Sprite { .. } => shape.form = SPRITE,
            _ => {}
        }
        shape
    }
}

impl AtlasOn {
    fn new(gpu: &Gpu, atlas: &Arc<Atlas>, counters: &mut DeviceCounters) -> Result<Self, GpuError> {
        let mut words: Vec<u32> =
            atlas.regions().iter().flat_map(|region| [region.x, region.y, region.w, region.h]).collect();
        let mut maps = Vec::with_capacity(atlas.tile_maps().len());
        for map in atlas.tile_maps() {
            maps.push(words.len() as u32);
            words.extend([map.size()[0], map.size()[1], map.sheet().frame(0).number()]);
            words.extend(map.tiles().iter().map(|&tile| u32::from(tile)));
        }
        if words.len() as u64 * 4 > gpu.binding() {
            return Err(GpuError::TooLarge {
                what: "tile maps",
                wanted: words.len() as u64 * 4,
                most: gpu.binding(),
                instead: "use smaller maps, or draw on the CPU",
            });
        }
        let usage = wgpu::BufferUsages::STORAGE | wgpu::BufferUsages::COPY_DST;
        let regions = gpu.buffer("regions", words.len() as u64 * 4, usage);
        upload(gpu, &regions, 0, &words, counters);
        let mut pages = Vec::new();
        for nth in 0..atlas.pages().max(1) {
            // A page of one texel takes the place of missing textures.
            let empty = [vec![[0u16; 4]]];
            let (side, levels) = atlas.page(nth).unwrap_or((1, &empty));
            pages.push(page(gpu, side as u32, levels, counters)?);
        }
        Ok(Self { atlas: Arc::clone(atlas), regions, pages, maps })
    }

    /// The page of a region.
    pub(crate) fn page_of(&self, region: RegionId) -> usize {
        usize::from(self.atlas.page_of(region)).min(self.pages.len() - 1)
    }

    /// First word of a tile map, and its page.
    pub(crate) fn map(&self, nth: u32) -> Option<(u32, usize)> {
        let map = self.atlas.tile_maps().get(nth as usize)?;
        Some((*self.maps.get(nth as usize)?, self.page_of(map.sheet().frame(0))))
    }
}

/// A page as a texture of 16-bit floats with its mip levels.
fn page(
    gpu: &Gpu,
    side: u32,
    levels: &[Vec<[u16; 4]>],
    counters: &mut DeviceCounters,
) -> Result<wgpu::TextureView, GpuError> {
    let most = gpu.device().limits().max_texture_dimension_2d;
    if side > most {
        let (wanted, most) = (u64::from(side), u64::from(most));
        let instead = "pack the atlas onto smaller pages";
        return Err(GpuError::TooLarge { what: "a texture side", wanted, most, instead });
    }
    let size = |level: u32| wgpu::Extent3d {
        width: (side >> level).max(1),
        height: (side >> level).max(1),
        depth_or_array_layers: 1,
    };
    let texture = gpu.device().create_texture(&wgpu::TextureDescriptor {
        label: Some("page"),
        size: size(0),
        mip_level_count: levels.len() as u32,
        sample_count: 1,
        dimension: wgpu::TextureDimension::D2,
        format: wgpu::TextureFormat::Rgba16Float,
        usage: wgpu::TextureUsages::TEXTURE_BINDING | wgpu::TextureUsages::COPY_DST,
        view_formats: &[],
    });
    for (level, texels) in levels.iter().enumerate() {
        let level = level as u32;
        let halves: Vec<u16> = texels
            .iter()
            .flatten()
            .map(|&value| f16::from_f32(f32::from(value) / 65_535.0).to_bits())
            .collect();
        let place = wgpu::TexelCopyTextureInfo { mip_level: level, ..texture.as_image_copy() };
        let layout = wgpu::TexelCopyBufferLayout {
            offset: 0,
            bytes_per_row: Some(size(level).width * 8),
            rows_per_image: None,
        };
        gpu.queue().write_texture(place, bytemuck::cast_slice(&halves), layout, size(level));
        counters.uploaded += halves.len() as u64 * 2;
    }
    Ok(texture.create_view(&wgpu::TextureViewDescriptor::default()))
}

fn tables(gpu: &Gpu, bytes: u64) -> wgpu::Buffer {
    gpu.buffer("tables", bytes, wgpu::BufferUsages::STORAGE | wgpu::BufferUsages::COPY_DST)
}
