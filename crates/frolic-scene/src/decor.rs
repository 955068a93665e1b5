//! Drawing of the decor of a scene: textures and letters in one atlas, meshes, sprites layer by layer.

use std::collections::HashMap;
use std::path::Path;
use std::sync::Arc;

use frolic_core::{Mask, MaskOrientation, SpecError, World, listed};
use frolic_draw::{
    AtlasBuilder, Fill, Font, ImageSize, Instances, Library, Look, LookSpec, Mesh, Orientation, Picture,
    RELIEF_SCALE, RegionId, Shape, Sheet, Sprite, TextStyle, TileMap,
};

use crate::assets::picture;
use crate::error::SceneError;
use crate::folder::MemoryFile;
use crate::parts::{PutSpec, ReliefPart, TextSpec, TilesSpec};
use crate::spec::SceneSpec;
use crate::terrain::TerrainMesh;

/// All of a scene besides its populations.
#[derive(Debug, Clone)]
pub(crate) struct Decor {
    pub(crate) library: Library,
    groups: Vec<Group>,
    reliefs: Vec<Relief>,
    /// Terrain, built once from the scene's assets; it does not depend on the size of the picture.
    pub(crate) terrains: Vec<TerrainMesh>,
    /// Texts that change with time: group, index of the first letter, and layout.
    fonts: Fonts,
    size: ImageSize,
    /// Second of the last update, numbers caught at that time, and a buffer for one text.
    second: Option<(u64, u64)>,
    words: String,
}

/// A mask drawn as relief: one sprite, whose texture is repainted where the mask was edited.
#[derive(Debug, Clone)]
struct Relief {
    spec: ReliefPart,
    look: Look,
    sprite: [Sprite; 1],
    region: RegionId,
    stamp: u64,
}

impl Relief {
    fn new(spec: &ReliefPart, mask: &Mask) -> Result<Self, SpecError> {
        let mut builder = AtlasBuilder::default();
        let whole = spec.paint.paint(mask, [0, 0, mask.width(), mask.height()])?;
        let region = builder.picture("relief", whole).frame(0);
        // An atlas of its own, so that it can be repainted in place.
        let library = Library { meshes: HashMap::new(), atlas: Arc::new(builder.build()?) };
        let look = LookSpec::sprites(false, spec.layer).build_with(&library)?;
        drop(library);
        let size = [mask.width(), mask.height()].map(|side| side as f32 * mask.cell());
        let orientation = match mask.orientation() {
            MaskOrientation::Flat => Orientation::Flat(0.0),
            _ => Orientation::Upright(std::f32::consts::PI),
        };
        let sprite = Sprite {
            position: mask.middle(),
            size,
            orientation,
            fill: Fill::Picture(region),
            ..Sprite::default()
        };
        Ok(Self { spec: spec.clone(), look, sprite: [sprite], region, stamp: mask.stamp() })
    }

    fn follow(&mut self, mask: &Mask) {
        let since = std::mem::replace(&mut self.stamp, mask.stamp());
        let Some([x0, y0, x1, y1]) = mask.changed_since(since) else {
            return;
        };
        if let Ok(part) = self.spec.paint.paint(mask, [x0, y0, x1, y1]) {
            let at = [x0 * RELIEF_SCALE, (mask.height() - y1) * RELIEF_SCALE].map(|at| at as u32);
            self.look.textures_mut().repaint(self.region, at, &part);
        }
    }
}

/// Sprites that share a look, in the order of the scene.
#[derive(Debug, Clone)]
struct Group {
    put: PutSpec,
    look: Look,
    sprites: Vec<Sprite>,
    /// Sprites that do not change; the letters of clocks follow.
    still: usize,
    clocks: Vec<TextSpec>,
}

/// Height of the letters of texts in the world, in pixels of the atlas.
const WORLD_LETTERS: f32 = 72.0;

/// Fonts of texts, by file; none is the built-in one.
type Fonts = HashMap<Option<String>, Font>;

/// Name of fonts in the atlas, before their number; no texture can have it.
const FONT: &str = "\u{1}font";

impl Decor {
    /// Reads files, packs the atlas, lays out the texts.
    pub(crate) fn new(spec: &SceneSpec, world: &World) -> Result<Self, SpecError> {
        let mut builder = AtlasBuilder::default();
        let sheets = Sheets::read(spec, &mut builder)?;
        let mut placed = Vec::new();
        place_tile_maps(spec, &sheets, &mut builder, &mut placed)?;
        place_sprites(spec, &sheets, &mut placed)?;
        let fonts = add_fonts(spec, &mut builder)?;
        let atlas = builder.build().map_err(|error| error.under("texture"))?;
        let mut meshes = HashMap::new();
        for (nth, mesh) in spec.mesh.iter().enumerate() {
            let built = Mesh::faceted(&mesh.vertices, &mesh.triangles);
            let built = built.map_err(|error| error.under(&format!("mesh.{nth}")))?;
            meshes.insert(mesh.name.clone(), Arc::new(built));
        }
        let library = Library { meshes, atlas: Arc::new(atlas) };
        let mut decor = Self {
            library,
            groups: Vec::new(),
            reliefs: Vec::new(),
            terrains: Vec::new(),
            fonts,
            size: spec.draw.size,
            second: None,
            words: String::new(),
        };
        for (nth, relief) in spec.relief.iter().enumerate() {
            let under = |error: SpecError| error.under(&format!("relief.{nth}"));
            // A checked relief names a mask.
            if let Some(mask) = world.obstacle_named(&relief.obstacle).and_then(|nth| world.mask(nth)) {
                decor.reliefs.push(Relief::new(relief, mask).map_err(under)?);
            }
        }
        for (put, sprite) in placed {
            let group = decor.group(&put)?;
            decor.groups[group].sprites.push(sprite);
        }
        decor.place_texts(&spec.text)?;
        Ok(decor)
    }

    /// Lays out the texts. Changing ones come last in their groups.
    fn place_texts(&mut self, texts: &[TextSpec]) -> Result<(), SpecError> {
        for text in texts.iter().filter(|text| !text.changes()) {
            let group = self.group(&text.put)?;
            if let Some(font) = self.fonts.get(&text.font) {
                set(font, text, &text.text, self.size, &mut self.groups[group].sprites);
            }
        }
        for text in texts.iter().filter(|text| text.changes()) {
            let group = self.group(&text.put)?;
            self.groups[group].clocks.push(text.clone());
        }
        for group in &mut self.groups {
            group.still = group.sprites.len();
        }
        self.update_texts(0.0, &[]);
        Ok(())
    }

    /// The group of sprites with this `put`, created if there is none.
    fn group(&mut self, put: &PutSpec) -> Result<usize, SpecError> {
        // Positions differ within a group; the settings that make up a look do not.
        let put = PutSpec { anchor: [0.0; 2], orientation: Default::default(), ..put.clone() };
        if let Some(nth) = self.groups.iter().position(|group| group.put == put) {
            return Ok(nth);
        }
        let mut look = LookSpec::sprites(put.on_screen, put.layer);
        look.depth.test = put.depth_test;
        look.glow = put.glow;
        look.lit = put.lit;
        debug_assert!(matches!(look.shape, Shape::Sprite { .. }));
        let look = look.build_with(&self.library)?;
        self.groups.push(Group { put, look, sprites: Vec::new(), still: 0, clocks: Vec::new() });
        Ok(self.groups.len() - 1)
    }

    /// Repaints reliefs where their masks were edited.
    pub(crate) fn update_reliefs(&mut self, world: &World) {
        for relief in &mut self.reliefs {
            if let Some(mask) = world.obstacle_named(&relief.spec.obstacle).and_then(|nth| world.mask(nth)) {
                relief.follow(mask);
            }
        }
    }

    /// Updates texts for a time of the scene, in seconds, and for the numbers that collectors have caught.
    pub(crate) fn update_texts(&mut self, time: f64, caught: &[u64]) {
        let second = (time.max(0.0) as u64, caught.iter().sum());
        if self.second == Some(second) {
            return;
        }
        self.second = Some(second);
        for group in self.groups.iter_mut().filter(|group| !group.clocks.is_empty()) {
            group.sprites.truncate(group.still);
            for text in &group.clocks {
                self.words.clear();
                text.say(time, caught, &mut self.words);
                let Some(font) = self.fonts.get(&text.font) else { continue };
                set(font, text, &self.words, self.size, &mut group.sprites);
            }
        }
    }

    /// Draw calls besides those of the populations, in the order of the scene.
    pub(crate) fn drawn(&self) -> impl Iterator<Item = (Instances<'_>, &Look)> {
        let terrains = self.terrains.iter().filter_map(TerrainMesh::drawn);
        let reliefs = self.reliefs.iter().map(|relief| (Instances::sprites(&relief.sprite), &relief.look));
        terrains
            .chain(reliefs)
            .chain(self.groups.iter().map(|group| (Instances::sprites(&group.sprites), &group.look)))
    }
}

/// Sheets of the textures of a scene, by name.
struct Sheets<'a>(HashMap<&'a str, Sheet>);

impl<'a> Sheets<'a> {
    /// Reads or paints the textures, and adds them to an atlas.
    fn read(spec: &'a SceneSpec, builder: &mut AtlasBuilder) -> Result<Self, SpecError> {
        let mut sheets = HashMap::new();
        for (nth, texture) in spec.texture.iter().enumerate() {
            let key = |name: &str| format!("texture.{nth}.{name}");
            let picture = match (&texture.file, &texture.tuft) {
                (Some(file), _) => read(spec, file, &key("file"))?,
                (None, tuft) => {
                    tuft.unwrap_or_default().paint().map_err(|error| error.under(&key("tuft")))?
                }
            };
            let [across, down] = texture.frames;
            let sheet = builder
                .frames(&texture.name, &picture, across, down)
                .map_err(|error| error.under(&format!("texture.{nth}")))?;
            sheets.insert(texture.name.as_str(), sheet);
        }
        Ok(Self(sheets))
    }

    fn named(&self, name: &str, key: String) -> Result<Sheet, SpecError> {
        self.0.get(name).copied().ok_or_else(|| {
            let mut names: Vec<&str> = self.0.keys().copied().collect();
            names.sort_unstable();
            let instead = if names.is_empty() {
                "add a texture of this name".to_owned()
            } else {
                format!("name one of: {}", listed(names))
            };
            SpecError::new(key, format!("there is no texture '{name}'"), instead)
        })
    }
}

fn place_tile_maps(
    spec: &SceneSpec,
    sheets: &Sheets<'_>,
    builder: &mut AtlasBuilder,
    placed: &mut Vec<(PutSpec, Sprite)>,
) -> Result<(), SpecError> {
    for (nth, tiles) in spec.tiles.iter().enumerate() {
        let sheet = sheets.named(&tiles.texture, format!("tiles.{nth}.texture"))?;
        let map = tile_map(spec, tiles, sheet).map_err(|error| error.under(&format!("tiles.{nth}")))?;
        let colour = tiles.colour;
        let sprite = Sprite {
            position: on(&tiles.put, tiles.position, spec.draw.size),
            size: tiles.size,
            orientation: tiles.put.orientation.orientation(),
            tint: [colour.r, colour.g, colour.b, 1.0],
            fill: Fill::Tiles(builder.tile_map(map)),
            ..Sprite::default()
        };
        placed.push((tiles.put.clone(), sprite));
    }
    Ok(())
}

fn place_sprites(
    spec: &SceneSpec,
    sheets: &Sheets<'_>,
    placed: &mut Vec<(PutSpec, Sprite)>,
) -> Result<(), SpecError> {
    for (nth, sprite) in spec.sprite.iter().enumerate() {
        let fill = match &sprite.texture {
            Some(name) => {
                Fill::Picture(sheets.named(name, format!("sprite.{nth}.texture"))?.frame(sprite.frame))
            }
            None => Fill::Plain,
        };
        let (colour, border) = (sprite.colour, sprite.border_colour);
        let drawn = Sprite {
            position: on(&sprite.put, sprite.position, spec.draw.size),
            size: sprite.size,
            pivot: sprite.pivot,
            turn: sprite.turn_degrees.to_radians(),
            orientation: sprite.put.orientation.orientation(),
            tint: [colour.r, colour.g, colour.b, sprite.opacity],
            fill,
            corner: sprite.corner,
            border: sprite.border,
            border_tint: [border.r, border.g, border.b, sprite.opacity],
        };
        placed.push((sprite.put.clone(), drawn));
    }
    Ok(())
}

/// Adds the fonts of all texts to an atlas, in the sizes that they need.
fn add_fonts(spec: &SceneSpec, builder: &mut AtlasBuilder) -> Result<Fonts, SpecError> {
    let mut fonts = Fonts::new();
    for (nth, text) in spec.text.iter().enumerate() {
        if fonts.contains_key(&text.font) {
            continue;
        }
        let alike = || spec.text.iter().filter(|other| other.font == text.font);
        let mut sizes: Vec<f32> = alike().filter(|text| text.put.on_screen).map(|text| text.size).collect();
        if alike().any(|text| !text.put.on_screen) {
            sizes.push(WORLD_LETTERS);
        }
        sizes.sort_by(f32::total_cmp);
        sizes.dedup();
        let read =
            text.font.as_ref().map(|file| font_bytes(spec, file, &format!("text.{nth}.font"))).transpose()?;
        let bytes = read.as_deref().unwrap_or(Font::shipped());
        let font = Font::add(builder, &format!("{FONT}{}", fonts.len()), bytes, &sizes);
        fonts.insert(text.font.clone(), font.map_err(|error| error.under(&format!("text.{nth}")))?);
    }
    Ok(fonts)
}

/// Reads a font of a scene.
fn font_bytes(spec: &SceneSpec, file: &str, key: &str) -> Result<Arc<[u8]>, SpecError> {
    let memory = |file: &MemoryFile| match file {
        MemoryFile::Font(bytes) => Some(bytes.clone()),
        _ => None,
    };
    let path = |path: &Path| {
        let read = std::fs::read(path).map(Arc::from);
        read.map_err(|source| SceneError::Read { path: path.to_owned(), source })
    };
    spec.folder.read(file, memory, |bytes| Ok(bytes.into()), path).map_err(|error| unread(error, key, "font"))
}

/// A position on the screen relative to its anchor; a position in the world unchanged.
fn on(put: &PutSpec, position: [f32; 3], size: ImageSize) -> [f32; 3] {
    if !put.on_screen {
        return position;
    }
    let [x, y, z] = position;
    [x + put.anchor[0] * size.width() as f32, y + put.anchor[1] * size.height() as f32, z]
}

fn set(font: &Font, text: &TextSpec, words: &str, size: ImageSize, into: &mut Vec<Sprite>) {
    let colour = text.colour;
    let tint = [colour.r, colour.g, colour.b, text.opacity];
    let style = TextStyle { size: text.size, align: text.align, tint };
    let at = on(&text.put, text.position, size);
    if text.put.on_screen {
        font.on_screen(words, [at[0], at[1]], &style, into);
    } else {
        let like =
            Sprite { position: at, orientation: text.put.orientation.orientation(), ..Sprite::default() };
        font.in_world(words, &like, &style, into);
    }
}

/// Reads a PNG of a scene.
fn read(spec: &SceneSpec, file: &str, key: &str) -> Result<Picture, SpecError> {
    picture(&spec.folder, file).map_err(|error| unread(error, key, "PNG"))
}

/// Says at which key a file of a kind cannot be read.
fn unread(error: SceneError, key: &str, kind: &str) -> SpecError {
    match error {
        SceneError::Read { path, source } => {
            let problem = format!("{} cannot be read: {source}", path.display());
            SpecError::new(key, problem, format!("name a {kind} beside the scene file"))
        }
        other => SpecError::new(key, other.to_string(), format!("give another {kind}")),
    }
}

fn tile_map(spec: &SceneSpec, tiles: &TilesSpec, sheet: Sheet) -> Result<TileMap, SpecError> {
    if let Some(size) = tiles.scatter {
        return TileMap::new(sheet, size, TilesSpec::scattered(spec.seed, size, sheet.len()));
    }
    if let Some(index) = &tiles.index {
        let picture = read(spec, index, "index")?;
        let of = |pixel: &[u8; 4]| if pixel[0] == 255 { TileMap::EMPTY } else { u16::from(pixel[0]) };
        return TileMap::new(sheet, picture.size(), picture.pixels().iter().map(of).collect());
    }
    let size = [tiles.rows.first().map_or(0, Vec::len) as u32, tiles.rows.len() as u32];
    TileMap::new(sheet, size, tiles.rows.concat())
}
