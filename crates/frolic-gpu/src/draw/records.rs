//! Packs elements of the CPU for the device, in drawing order.

use frolic_draw::backend::{ElementNow, Form, wave};
use frolic_draw::{Batch, DrawList, Fill, Instances, Look, View};
use rayon::prelude::*;

use crate::device::{DeviceCounters, Gpu, upload};
use crate::draw::looks::AtlasOn;
use crate::shared::look::{
    FILL_PICTURE, FILL_PLAIN, FILL_TILES, Packed, PackedCurve, PackedHeading, PackedMotion, PackedSprite,
};

/// Buffers that are filled in each frame, none larger than one binding.
#[derive(Debug)]
pub(crate) struct Pages {
    label: &'static str,
    pages: Vec<Page>,
    /// Index of the page that is being filled.
    now: usize,
    /// Changes when a buffer is replaced.
    pub(crate) generation: u64,
}

#[derive(Debug)]
struct Page {
    words: Vec<u32>,
    used: usize,
    buffer: wgpu::Buffer,
}

/// Initial size of a page in words.
const FIRST_WORDS: usize = 1 << 14;

impl Pages {
    pub(crate) fn new(label: &'static str) -> Self {
        Self { label, pages: Vec::new(), now: 0, generation: 0 }
    }

    /// Starts a frame.
    pub(crate) fn clear(&mut self) {
        self.now = 0;
        self.pages.iter_mut().for_each(|page| page.used = 0);
    }

    /// Most records of `words` each in one page.
    pub(crate) fn most(gpu: &Gpu, words: usize) -> usize {
        ((gpu.binding() / 4) as usize / words.max(1)).saturating_sub(1).max(1)
    }

    /// Reserves aligned records of `words` each, at most [`Pages::most`]. Returns the page and the first word.
    pub(crate) fn take(&mut self, gpu: &Gpu, count: usize, words: usize) -> (usize, usize) {
        let most = (gpu.binding() / 4) as usize;
        loop {
            if self.now == self.pages.len() {
                let buffer = page_buffer(gpu, self.label, FIRST_WORDS as u64 * 4);
                self.pages.push(Page { words: Vec::new(), used: 0, buffer });
                self.generation += 1;
            }
            let page = &mut self.pages[self.now];
            let first = page.used.next_multiple_of(words.max(1));
            if first + count * words <= most || page.used == 0 {
                page.used = first + count * words;
                if page.words.len() < page.used {
                    page.words.resize(page.used, 0);
                }
                return (self.now, first);
            }
            self.now += 1;
        }
    }

    /// A range of words of a page.
    pub(crate) fn words(&mut self, page: usize, first: usize, count: usize) -> &mut [u32] {
        &mut self.pages[page].words[first..first + count]
    }

    /// Uploads all reserved words.
    pub(crate) fn flush(&mut self, gpu: &Gpu, counters: &mut DeviceCounters) {
        for page in &mut self.pages {
            let bytes = page.used as u64 * 4;
            if bytes > page.buffer.size() {
                page.buffer = page_buffer(gpu, self.label, bytes.next_power_of_two().min(gpu.binding()));
                self.generation += 1;
            }
            upload(gpu, &page.buffer, 0, &page.words[..page.used], counters);
            counters.uploaded_elements += bytes;
        }
    }

    pub(crate) fn buffer(&self, page: usize) -> Option<&wgpu::Buffer> {
        self.pages.get(page).map(|page| &page.buffer)
    }

    pub(crate) fn bytes(&self) -> u64 {
        self.pages.iter().map(|page| page.buffer.size()).sum()
    }
}

fn page_buffer(gpu: &Gpu, label: &str, bytes: u64) -> wgpu::Buffer {
    gpu.buffer(label, bytes, wgpu::BufferUsages::STORAGE | wgpu::BufferUsages::COPY_DST)
}

/// Words of the records of elements: plain, with a velocity or a tint, along a heading, or with a curve.
const PLAIN: usize = Packed::WORDS;
const MOVING: usize = PLAIN + PackedMotion::WORDS;
const HEADED: usize = PLAIN + PackedHeading::WORDS;
const CURVED: usize = PLAIN + PackedCurve::WORDS;

/// Words of a record of a batch.
pub(crate) fn words(list: &DrawList<'_>, batch: &Batch, look: &Look) -> usize {
    let parts = look.parts();
    let any = |has: fn(&ElementNow) -> bool| {
        let of = |instances: &Instances<'_>| instances.element(0).as_ref().is_some_and(has);
        list.runs(batch).iter().any(|run| match list.source(run.source) {
            Some((instances, _)) if !run.sorted => of(instances),
            // A sorted run may mix all populations of its look.
            _ => list.sources().any(|(instances, own)| own.parts().key == parts.key && of(instances)),
        })
    };
    match parts.form {
        Form::Sprite { .. } => PackedSprite::WORDS,
        Form::Ribbon(_) | Form::Mesh { .. } if any(|element| element.curve.is_some()) => CURVED,
        Form::Mesh { .. } if any(|element| element.bank.is_some()) => HEADED,
        Form::Billboard { .. } => MOVING,
        _ if !parts.tints.is_empty() && any(|element| element.tint.is_some()) => MOVING,
        _ => PLAIN,
    }
}

/// Elements that one task packs.
const PART: usize = 2048;

/// Packs a range of a batch's instances, from `skip` on, as records of `each` words.
pub(crate) fn pack(
    list: &DrawList<'_>,
    batch: &Batch,
    skip: usize,
    view: &View,
    atlas: Option<&AtlasOn>,
    each: usize,
    into: &mut [u32],
) {
    let (mut skip, mut left) = (skip, into);
    for run in list.runs(batch) {
        let count = run.count as usize;
        if skip >= count {
            skip -= count;
            continue;
        }
        let taken = (count - skip).min(left.len() / each);
        let (mine, rest) = left.split_at_mut(taken * each);
        left = rest;
        mine.par_chunks_mut(each * PART).enumerate().for_each(|(part, records)| {
            for (nth, record) in records.chunks_exact_mut(each).enumerate() {
                let entry = list.instance(run, (skip + part * PART + nth) as u32);
                let Some((instances, look)) = list.source(entry.source) else { continue };
                if let Some(sprite) = instances.as_sprites().get(entry.element as usize) {
                    sprite_record(sprite, look, view, atlas, record);
                } else if let Some(element) = instances.element(entry.element as usize) {
                    element_record(&element, look, record);
                }
            }
        });
        skip = 0;
        if left.is_empty() {
            return;
        }
    }
}

/// Not a number: marks a value that was not given.
const NOT_GIVEN: u32 = f32::NAN.to_bits();

fn given<const N: usize>(values: Option<[f32; N]>) -> [u32; N] {
    values.map_or([NOT_GIVEN; N], |values| values.map(f32::to_bits))
}

fn element_record(element: &ElementNow, look: &Look, record: &mut [u32]) {
    let ElementNow { position: at, size, age, id, .. } = *element;
    let (plain, more) = record.split_at_mut(PLAIN);
    Packed { at, size, age, id, turn: given(element.turn) }.put(plain);
    let [tint] = given(element.tint.map(|tint| [tint]));
    match PLAIN + more.len() {
        MOVING => PackedMotion { velocity: element.velocity, tint }.put(more),
        HEADED => {
            let wave = element.way.and_then(|way| wave(look, size, element.velocity, way));
            let packed = PackedHeading {
                velocity: element.velocity,
                tint,
                bank: element.bank.unwrap_or(0.0),
                swing: wave.map_or(0.0, |wave| wave.swing),
                turns: wave.map_or(0.0, |wave| wave.turns),
                waves: wave.map_or(0.0, |wave| wave.count),
                front: wave.map_or(0.0, |wave| wave.front),
                per_length: wave.map_or(0.0, |wave| wave.per_length),
                spare: [0.0; 2],
            };
            packed.put(more);
        }
        CURVED => {
            let [middle, tip] = element.curve.map_or([None, None], |curve| curve.map(Some));
            let [length] = given(element.length.map(|length| [length]));
            PackedCurve { middle: given(middle), tip: tip.unwrap_or_default(), tint, length }.put(more);
        }
        _ => {}
    }
}

fn sprite_record(
    sprite: &frolic_draw::Sprite,
    look: &Look,
    view: &View,
    atlas: Option<&AtlasOn>,
    record: &mut [u32],
) {
    let on_screen = look.is_on_screen();
    let [origin, across, down] = sprite.frame(view, on_screen);
    let [r, g, b, opacity] = sprite.tint;
    let (fill, place) = match sprite.fill {
        Fill::Picture(region) => (FILL_PICTURE, Some(region.number())),
        Fill::Tiles(map) => (FILL_TILES, atlas.and_then(|atlas| atlas.map(map.number())).map(|(at, _)| at)),
        _ => (FILL_PLAIN, Some(0)),
    };
    let sound = origin.is_finite()
        && across.is_finite()
        && down.is_finite()
        && (r + g + b).is_finite()
        && across.length_squared().max(down.length_squared()) < 1e18
        && place.is_some();
    let opacity = if sound { opacity.clamp(0.0, 1.0) } else { 0.0 };
    let packed = PackedSprite {
        origin: origin.to_array(),
        fill,
        across: across.to_array(),
        place: place.unwrap_or(0),
        down: down.to_array(),
        corner: sprite.corner,
        tint: [r, g, b, opacity],
        size: sprite.size.map(f32::abs),
        border: sprite.border,
        spare: 0.0,
        border_tint: sprite.border_tint,
    };
    packed.put(record);
}
