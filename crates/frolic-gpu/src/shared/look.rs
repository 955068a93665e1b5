//! A look and one of its batches, and the records of elements that the CPU packs. Read by `shaders/look.wgsl`, `packed_elements.wgsl` and
//! `vertices.wgsl`.

use frolic_draw::RibbonSpec;

use crate::shared::{Shared, constants, records, shared};

shared! {
    /// How the instances of a batch look.
    struct Draw {
        /// Vectors of four words in a record; of trails, the number of their positions.
        stride: u32,
        /// Time from the drawn moment to the columns' state, in seconds.
        lag: f32,
        /// Vertices of an instance if all instances are in one list; otherwise 0.
        corners: u32,
        form: u32,
        lit: f32,
        rim: f32,
        translucency: f32,
        gloss: f32,
        two_sided: u32,
        /// 1 over the width of soft edges, in 1/m.
        per_soft: f32,
        tints: u32,
        flags: u32,
        /// Rows of the tables: colour and size over age, gradients, tints.
        over_age: u32,
        over_height: u32,
        along: u32,
        tint_at: u32,
        height_low: f32,
        per_height: f32,
        /// Greatest distance, and the width over which elements fade out there.
        reach: f32,
        edge: f32,
        thin_below: f32,
        coarse_below: f32,
        /// Orientation of a textured billboard, with two numbers.
        facing: u32,
        face_a: f32,
        face_b: f32,
        aspect: f32,
        play: u32,
        rate: f32,
        blend_frames: u32,
        sheet_first: u32,
        sheet_count: u32,
        region: u32,
        length: f32,
        tip: f32,
        /// Points along a ribbon, near and far.
        points: u32,
        points_coarse: u32,
        /// First word of merged vertices.
        merged_at: u32,
        /// Where the fine and the coarse mesh lie in the tables.
        fine_index: u32,
        fine_count: u32,
        coarse_index: u32,
        coarse_count: u32,
        fine_vertex: u32,
        coarse_vertex: u32,
        /// First record of the batch, and vertices of each instance.
        first: u32,
        each: u32,
        /// Radius of an element of size 1, for culling.
        cull_reach: f32,
        /// Rows of the curve over age, and of gradients.
        ages: u32,
        steps: u32,
        /// Number of elements; for a device-resident population, the word of the counters that holds it.
        count: u32,
        /// Vertices of an instance.
        span: u32,
        /// Bits: whether the fine, and the coarse mesh are closed.
        closed: u32,
        /// Of trails: the newest position, and the share of the last segment.
        newest: u32,
        trail_end: f32,
        /// Share of elements that is drawn.
        density: f32,
        /// Share by which a blade's normals bend towards the camera.
        round: f32,
        /// Share of the haze that covers it.
        hazed: f32,
        /// Distance from which elements appear, and the width over which they do.
        come_from: f32,
        onset: f32,
        /// Of elements along their heading: 1 over the length of a step.
        per_step: f32,
        /// Waves along their bodies: swing as a share of the length, waves along it, beat in lengths, speed of the full swing, front, length.
        swing: f32,
        waves: f32,
        beat: f32,
        swim_speed: f32,
        front: f32,
        body_length: f32,
    }
}

/// Words of a look.
pub(crate) const DRAW_WORDS: usize = Draw::WORDS;
/// Bytes of its uniform.
pub(crate) const DRAW_BYTES: u64 = DRAW_WORDS as u64 * 4;

records! {
    /// An element that the CPU has packed. Words that were not given are not a number.
    struct Packed {
        at: [f32; 3],
        size: f32,
        age: f32,
        id: u32,
        turn: [u32; 2],
    }

    /// What follows it if it has a velocity or a tint of its own.
    struct PackedMotion {
        velocity: [f32; 3],
        tint: u32,
    }

    /// What follows it if it stands along its heading.
    struct PackedHeading {
        velocity: [f32; 3],
        tint: u32,
        bank: f32,
        /// Waves along its body: swing, turns at the front, waves along the length; front, 1 over the length.
        swing: f32,
        turns: f32,
        waves: f32,
        front: f32,
        per_length: f32,
        spare: [f32; 2],
    }

    /// What follows it if it is curved.
    struct PackedCurve {
        middle: [u32; 3],
        tip: [f32; 3],
        tint: u32,
        length: u32,
    }

    /// A rectangle of text, tiles or a picture.
    struct PackedSprite {
        origin: [f32; 3],
        fill: u32,
        across: [f32; 3],
        /// Region, or first word of the tile map.
        place: u32,
        down: [f32; 3],
        corner: f32,
        tint: [f32; 4],
        size: [f32; 2],
        border: f32,
        spare: f32,
        border_tint: [f32; 4],
    }

    /// A finished vertex of merged instances.
    struct Lit {
        at: [f32; 3],
        corner: [f32; 2],
        radius: f32,
        colour: [f32; 3],
        sun: [f32; 3],
        cover: f32,
    }
}

constants! {
    /// Shapes, orientations and flags of a look.
    look_tags {
        DISC: u32 = 0,
        BILLBOARD: u32 = 1,
        RIBBON: u32 = 2,
        MESH: u32 = 3,
        SPRITE: u32 = 4,

        FACING_CAMERA: u32 = 0,
        FACING_SPIN: u32 = 1,
        FACING_HEADING: u32 = 2,
        FACING_STRETCH: u32 = 3,

        PLAY_LIFE: u32 = 0,
        PLAY_CLOCK: u32 = 1,
        PLAY_PICK: u32 = 2,

        FILL_PLAIN: u32 = 0,
        FILL_PICTURE: u32 = 1,
        FILL_TILES: u32 = 2,

        OVER_HEIGHT: u32 = 1,
        ALONG: u32 = 1 << 1,
        DETAIL: u32 = 1 << 2,
        /// Sunlight is kept apart, as shadows may fall on it.
        SHADOWED: u32 = 1 << 3,
        ON_SCREEN: u32 = 1 << 4,
        TINTED: u32 = 1 << 5,
        /// A list says which elements are drawn.
        LISTED: u32 = 1 << 6,
        /// All instances are vertices of one list.
        MERGED: u32 = 1 << 7,
        DEPTH_TEST: u32 = 1 << 8,
        CUT_OUT: u32 = 1 << 9,
        LIT_BY_SCENE: u32 = 1 << 10,
        ADDITIVE: u32 = 1 << 11,
        /// The drawn moment is before the columns' state.
        LAGGING: u32 = 1 << 12,
        /// Random numbers of an element are used.
        RANDOM: u32 = 1 << 13,

        /// No region, or flags that are read from the batch.
        NONE: u32 = u32::MAX,

        PACKED_ROWS: u32 = Packed::WORDS as u32 / 4,
        MOTION_ROWS: u32 = PACKED_ROWS + PackedMotion::WORDS as u32 / 4,
        HEADING_ROWS: u32 = PACKED_ROWS + PackedHeading::WORDS as u32 / 4,
        CURVE_ROWS: u32 = PACKED_ROWS + PackedCurve::WORDS as u32 / 4,
        VERTEX_WORDS: u32 = Lit::WORDS as u32,
        /// Most points along a ribbon.
        MOST_POINTS: u32 = RibbonSpec::MOST_SEGMENTS + 1,
    }
}
