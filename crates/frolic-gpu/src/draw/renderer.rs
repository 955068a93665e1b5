//! The device backend: draws a list into a picture. Its passes follow the stages of the CPU backend:
//!
//! ```text
//! order      culling and sorting, where the device does it                     order.rs
//! shadow     solid surfaces into the shadow map
//! start      the backdrop, which the CPU paints once for a view                targets.rs
//! then for each range of items of one kind:
//!   solid    four samples a pixel, depth tested; then composed onto the picture
//!   pieces   transparent meshes and ribbons, multisampled too
//!   soft     transparent discs and rectangles, straight onto the picture
//! finish     bloom, tone curve, dither, eight bits                              finish.rs
//! ```

use frolic_core::{Counter, Meter, Stage};
use frolic_draw::backend::shadow_view;
use frolic_draw::{BackdropSpec, DrawList, Image, ImageSize, Look, View};
use wgpu::{BindingResource, LoadOp, Operations, StoreOp, TextureUsages};

use crate::device::error::GpuError;
use crate::device::{DeviceCounters, Gpu, Recorder};
use crate::draw::finish::Finish;
use crate::draw::items::{DrawItems, FRAME_SLOT, Item};
use crate::draw::keys::{DrawnShape, Pass};
use crate::draw::pipelines::{DEPTH, group};
use crate::draw::population::DevicePopulation;
use crate::draw::targets::{BackdropOn, Target, Targets, fits, light, target};
use crate::shared::frame::{ENDLESS, FrameView, SunMap};

/// Draws lists on a device. Buffers and textures are kept from frame to frame.
///
/// ```no_run
/// use frolic_core::Meter;
/// use frolic_draw::{BackdropSpec, CameraSpec, Image, ImageSize};
/// use frolic_list::{ListScratch, ListSpec, Surroundings};
/// use frolic_gpu::{Gpu, GpuRenderer, GpuSpec, Recorder};
///
/// let gpu = Gpu::open(GpuSpec::default())?;
/// let (mut renderer, mut recorder) = (GpuRenderer::new(&gpu)?, Recorder::new(&gpu));
/// let size = ImageSize::new(640, 400)?;
/// let (view, backdrop) = (CameraSpec::default().view(size)?, BackdropSpec::default());
/// let (mut scratch, mut meter) = (ListScratch::default(), Meter::new());
/// let around = Surroundings::new(&backdrop);
/// let list = scratch.list([], &ListSpec::default(), &view, &around, &mut meter);
/// let mut image = Image::new(size);
/// renderer.render(&mut recorder, &list, &[], &view, &backdrop, Some(&mut image), &mut meter)?;
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Debug)]
pub struct GpuRenderer {
    draws: DrawItems,
    targets: Option<Targets>,
    /// The same picture over white, for transparent pictures.
    over_white: Option<Target>,
    backdrop: Option<BackdropOn>,
    shadow: Option<(u32, Target)>,
    finish: Option<Finish>,
    /// Whether the finish is for a transparent picture.
    transparent: bool,
}

/// Items that are drawn in one pass.
#[derive(Debug, Clone, PartialEq)]
struct PassRange {
    pass: Pass,
    items: std::ops::Range<usize>,
}

/// The pass of a look.
fn kind(look: &Look) -> Pass {
    match (look.is_solid(), DrawnShape::of(look).has_pieces()) {
        (true, _) => Pass::Solid,
        (false, true) => Pass::Pieces,
        (false, false) => Pass::Soft,
    }
}

impl GpuRenderer {
    /// A renderer on a device.
    ///
    /// # Errors
    /// When the device was lost.
    pub fn new(gpu: &Gpu) -> Result<Self, GpuError> {
        gpu.check()?;
        Ok(Self {
            draws: DrawItems::new(gpu, &mut DeviceCounters::default()),
            targets: None,
            over_white: None,
            backdrop: None,
            shadow: None,
            finish: None,
            transparent: false,
        })
    }

    /// Draws the list over the backdrop and submits the frame. With an `image` it waits for the picture and reads it back; without one it
    /// never waits.
    ///
    /// # Errors
    /// A picture or texture that is too large for the device, a population that is not among `populations`, groups of blades, or a lost
    /// device.
    #[expect(clippy::too_many_arguments, reason = "inputs of one pass")]
    pub fn render(
        &mut self,
        recorder: &mut Recorder,
        list: &DrawList<'_>,
        populations: &[&dyn DevicePopulation],
        view: &View,
        backdrop: &BackdropSpec,
        image: Option<&mut Image>,
        meter: &mut Meter,
    ) -> Result<(), GpuError> {
        self.frame(recorder, list, populations, view, Some(backdrop), image, meter)
    }

    /// Draws the list without a backdrop, as straight (not premultiplied) RGBA.
    ///
    /// # Errors
    /// As [`GpuRenderer::render`].
    pub fn render_transparent(
        &mut self,
        recorder: &mut Recorder,
        list: &DrawList<'_>,
        populations: &[&dyn DevicePopulation],
        view: &View,
        image: &mut Image,
        meter: &mut Meter,
    ) -> Result<(), GpuError> {
        self.frame(recorder, list, populations, view, None, Some(image), meter)
    }

    /// The texture of the last picture, for a window.
    pub fn picture(&self) -> Option<&wgpu::TextureView> {
        self.targets.as_ref().map(|targets| &targets.picture.view)
    }

    #[expect(clippy::too_many_arguments, reason = "inputs of one pass")]
    fn frame(
        &mut self,
        recorder: &mut Recorder,
        list: &DrawList<'_>,
        populations: &[&dyn DevicePopulation],
        view: &View,
        backdrop: Option<&BackdropSpec>,
        image: Option<&mut Image>,
        meter: &mut Meter,
    ) -> Result<(), GpuError> {
        let gpu = recorder.gpu().clone();
        gpu.check()?;
        if list.is_grouped() {
            let problem = "groups of blades are drawn by the CPU only; draw them blade by blade";
            return Err(GpuError::Unsupported(problem.to_owned()));
        }
        let started = meter.start(Stage::Encode);
        let size = view.size();
        self.draws.build(list, populations, view, kind, &mut recorder.counters)?;
        let ranges = ranges(&self.draws.items);
        let any = |pass: Pass| ranges.iter().any(|range| range.pass == pass);
        let sampled = any(Pass::Solid) || any(Pass::Pieces);
        self.fit(&gpu, size, sampled, backdrop.is_none(), &mut recorder.counters)?;
        let map = self.shadow_map(&gpu, list, view, any(Pass::Solid))?;
        let lighting = list.lighting();
        let seen = |view, z, map| FrameView {
            view,
            camera: view,
            z,
            map,
            lighting: &lighting,
            time: list.time(),
            exposure: 1.0,
            most_slope: 0.0,
        };
        let mut all = vec![seen(view, ENDLESS, map.as_ref())];
        if let Some(map) = &map {
            let most_slope = map.most_slope();
            all.push(FrameView { camera: view, most_slope, ..seen(&map.view, map.z, None) });
        }
        self.draws.set_frames(&all, &mut recorder.counters);
        let fills: &[f32] = if backdrop.is_some() { &[0.0] } else { &[1.0, 0.0] };
        for (nth, light) in fills.iter().enumerate() {
            let plain = BackdropSpec::plain(*light);
            self.paint(&gpu, view, backdrop.unwrap_or(&plain), list, backdrop.is_none(), meter, recorder);
            // The picture over white has a texture of its own.
            let over_white = *light > 0.0;
            self.swap_light(over_white);
            self.passes(recorder, populations, &ranges, map.as_ref(), nth == 0)?;
            self.swap_light(over_white);
        }
        self.finish_up(recorder, view, backdrop.is_none(), image.is_some())?;
        meter.stop(started);
        let took = recorder.submit();
        recorder.timing.request_readback();
        meter.add_time(Stage::Submit, took);
        if let Some(image) = image {
            let started = meter.start(Stage::Wait);
            if image.size() != size {
                *image = Image::new(size);
            }
            if let Some(finish) = &self.finish {
                finish.take(&gpu, image, &mut recorder.counters)?;
            }
            meter.stop(started);
        }
        gpu.poll();
        recorder.read_times(meter);
        meter.add(Counter::DeviceBytes, self.bytes());
        recorder.counters.report(meter);
        gpu.check()
    }

    /// Waits until the device is done, and reads back the last timings. This stalls; use it between the frames of a
    /// measurement.
    ///
    /// # Errors
    /// When the device was lost.
    pub fn wait(&mut self, recorder: &mut Recorder, meter: &mut Meter) -> Result<(), GpuError> {
        let started = meter.start(Stage::Wait);
        let done = recorder.gpu().wait();
        recorder.read_times(meter);
        recorder.counters.report(meter);
        meter.stop(started);
        done
    }

    /// Ensures textures of the right size.
    fn fit(
        &mut self,
        gpu: &Gpu,
        size: ImageSize,
        sampled: bool,
        transparent: bool,
        counters: &mut DeviceCounters,
    ) -> Result<(), GpuError> {
        if self.targets.as_ref().is_none_or(|targets| targets.size != size) {
            self.targets = Some(Targets::new(gpu, size)?);
            (self.over_white, self.finish) = (None, None);
            self.draws.targets_changed();
        }
        let Some(targets) = &mut self.targets else { return Ok(()) };
        if sampled && targets.with_samples(gpu) {
            self.draws.targets_changed();
        }
        if transparent && self.over_white.is_none() {
            self.over_white = Some(light(gpu, size));
            self.finish = None;
        }
        if self.finish.is_none() || self.transparent != transparent {
            let light = &targets.light.view;
            let white = self.over_white.as_ref().filter(|_| transparent).map_or(light, |white| &white.view);
            self.finish = Some(Finish::new(gpu, &mut self.draws.pipelines, size, light, white, counters)?);
            self.transparent = transparent;
        }
        Ok(())
    }

    fn swap_light(&mut self, swap: bool) {
        if let (true, Some(targets), Some(white)) = (swap, &mut self.targets, &mut self.over_white) {
            std::mem::swap(&mut targets.light, white);
        }
    }

    /// The shadow map, if there are shadows.
    fn shadow_map(
        &mut self,
        gpu: &Gpu,
        list: &DrawList<'_>,
        view: &View,
        any_solid: bool,
    ) -> Result<Option<SunMap>, GpuError> {
        let lighting = list.lighting();
        let sun = lighting.sun.filter(|_| lighting.shadows() && any_solid);
        let Some(sun) = sun else {
            if self.shadow.take().is_some() {
                self.draws.targets_changed();
            }
            return Ok(None);
        };
        let side = sun.shadow_map;
        fits(gpu, "a shadow map side", side)?;
        if self.shadow.as_ref().is_none_or(|(has, _)| *has != side) {
            let usage = TextureUsages::RENDER_ATTACHMENT | TextureUsages::TEXTURE_BINDING;
            self.shadow = Some((side, target(gpu, "shadow", [side, side], DEPTH, 1, usage)));
            self.draws.targets_changed();
        }
        let size = ImageSize::new(side, side).map_err(|error| GpuError::Unsupported(error.to_string()))?;
        let (sun_view, texel) = shadow_view(sun, view, size);
        for item in 0..self.draws.items.len() {
            let item = self.draws.items[item];
            if item.key.pass == Pass::Solid {
                self.draws.pipelines.make(item.casting().key)?;
            }
        }
        // Twice the distance of anything that casts a shadow into the view.
        let far = view.parts().eye.length() + sun.shadow_reach * 4.0 + 100.0;
        Ok(Some(SunMap::new(sun_view, texel, far)))
    }

    #[expect(clippy::too_many_arguments, reason = "inputs of one pass")]
    fn paint(
        &mut self,
        gpu: &Gpu,
        view: &View,
        spec: &BackdropSpec,
        list: &DrawList<'_>,
        plain: bool,
        meter: &mut Meter,
        recorder: &mut Recorder,
    ) {
        let lighting = list.lighting();
        let (lights, sun) = (lighting.lights, lighting.sun.filter(|_| !plain));
        if self.backdrop.as_ref().is_some_and(|kept| kept.key.fits(view, spec, lights, sun)) {
            meter.add(Counter::BackdropHits, 1);
            return;
        }
        let started = meter.start(Stage::Backdrop);
        self.backdrop = Some(BackdropOn::paint(gpu, view, spec, lights, sun, &mut recorder.counters));
        self.draws.targets_changed();
        meter.add(Counter::BackdropMisses, 1);
        meter.stop(started);
    }

    /// Encodes everything up to the picture in linear light.
    fn passes(
        &mut self,
        recorder: &mut Recorder,
        populations: &[&dyn DevicePopulation],
        ranges: &[PassRange],
        map: Option<&SunMap>,
        first: bool,
    ) -> Result<(), GpuError> {
        let Self { draws, targets: Some(targets), backdrop: Some(backdrop), shadow, .. } = self else {
            return Ok(());
        };
        let gpu = recorder.gpu().clone();
        let sampled = targets.sampled.as_ref();
        let frames = draws.frames(
            shadow.as_ref().map(|(_, map)| &map.view),
            Some(&backdrop.depth.view),
            sampled.map(|sampled| &sampled.nearest.view),
        );
        let behind = group(
            &gpu,
            &draws.pipelines.layouts.backdrop,
            &[
                (0, BindingResource::TextureView(&backdrop.light.view)),
                (1, BindingResource::TextureView(&backdrop.sunlit.view)),
            ],
        );
        let start = draws.pipelines.wide("start")?;
        let start_depth = draws.pipelines.wide("start_depth")?;
        let composing = [draws.pipelines.wide("compose")?, draws.pipelines.wide("compose_solid")?];
        let compose_group = sampled.map(|sampled| {
            group(
                &gpu,
                &draws.pipelines.layouts.compose,
                &[
                    (0, BindingResource::TextureView(&sampled.met.view)),
                    (1, BindingResource::TextureView(&sampled.depth.view)),
                ],
            )
        });
        let (encoder, counters, timing) = recorder.split();
        if first && draws.has_lists() {
            let mut pass = encoder.begin_compute_pass(&wgpu::ComputePassDescriptor {
                label: Some("order"),
                timestamp_writes: timing.compute(Stage::DeviceOrder),
            });
            counters.passes += 1;
            draws.order(&mut pass, &frames[2], populations, counters)?;
        }
        if let (true, Some(_), Some((_, target))) = (first, map, shadow.as_ref()) {
            let mut pass = encoder.begin_render_pass(&wgpu::RenderPassDescriptor {
                label: Some("shadow"),
                depth_stencil_attachment: Some(depth(&target.view, LoadOp::Clear(0.0))),
                timestamp_writes: timing.render(Stage::DeviceShadow),
                ..Default::default()
            });
            counters.passes += 1;
            pass.set_bind_group(0, &frames[2], &[FRAME_SLOT as u32 * 4]);
            let solid = (0..draws.items.len()).filter(|&nth| draws.items[nth].key.pass == Pass::Solid);
            draws.draw(&mut pass, solid, true, populations, counters)?;
        }
        // The open pass draws onto the picture; other passes end it.
        let mut met_solid = false;
        let mut next = 0;
        let mut what = Some(Onto::Start);
        loop {
            let soft = ranges.get(next).filter(|range| range.pass == Pass::Soft);
            if what.is_some() || soft.is_some() {
                let load =
                    if what == Some(Onto::Start) { LoadOp::Clear(wgpu::Color::BLACK) } else { LoadOp::Load };
                let solid = what == Some(Onto::Solid);
                let mut attachments = vec![Some(colour(&targets.light.view, load))];
                if let (true, Some(sampled)) = (solid, sampled) {
                    let clear = LoadOp::Clear(wgpu::Color::BLACK);
                    attachments.push(Some(colour(&sampled.nearest.view, clear)));
                }
                {
                    let mut pass = encoder.begin_render_pass(&wgpu::RenderPassDescriptor {
                        label: Some("picture"),
                        color_attachments: &attachments,
                        timestamp_writes: timing.render(Stage::DeviceRaster),
                        ..Default::default()
                    });
                    counters.passes += 1;
                    pass.set_bind_group(0, &frames[usize::from(met_solid && !solid)], &[0]);
                    counters.binds += 1;
                    match (what.take(), &compose_group) {
                        (Some(Onto::Start), _) => {
                            pass.set_pipeline(&start);
                            pass.set_bind_group(1, &behind, &[]);
                            pass.draw(0..3, 0..1);
                        }
                        (Some(onto), Some(group)) => {
                            pass.set_pipeline(&composing[usize::from(onto == Onto::Solid)]);
                            pass.set_bind_group(1, group, &[]);
                            pass.draw(0..3, 0..1);
                        }
                        _ => {}
                    }
                    if let (Some(range), false) = (soft, solid) {
                        draws.draw(&mut pass, range.items.clone(), false, populations, counters)?;
                        next += 1;
                    }
                }
                met_solid |= solid;
                continue;
            }
            let (Some(range), Some(sampled)) = (ranges.get(next), sampled) else { break };
            let fresh = ranges[..next].iter().all(|before| before.pass == Pass::Soft);
            let mut attachment = colour(&sampled.light.view, LoadOp::Clear(wgpu::Color::TRANSPARENT));
            attachment.resolve_target = Some(&sampled.met.view);
            attachment.ops.store = StoreOp::Discard;
            let load = if fresh { LoadOp::Clear(0.0) } else { LoadOp::Load };
            let mut pass = encoder.begin_render_pass(&wgpu::RenderPassDescriptor {
                label: Some("samples"),
                color_attachments: &[Some(attachment)],
                depth_stencil_attachment: Some(depth(&sampled.depth.view, load)),
                timestamp_writes: timing.render(Stage::DeviceRaster),
                ..Default::default()
            });
            counters.passes += 1;
            pass.set_bind_group(0, &frames[0], &[0]);
            counters.binds += 1;
            if fresh && backdrop.has_depth {
                pass.set_pipeline(&start_depth);
                pass.set_bind_group(1, &behind, &[]);
                pass.draw(0..3, 0..1);
            }
            draws.draw(&mut pass, range.items.clone(), false, populations, counters)?;
            what = Some(if range.pass == Pass::Solid { Onto::Solid } else { Onto::Pieces });
            next += 1;
        }
        Ok(())
    }

    /// Encodes the rest of the frame.
    fn finish_up(
        &mut self,
        recorder: &mut Recorder,
        view: &View,
        transparent: bool,
        back: bool,
    ) -> Result<(), GpuError> {
        let Self { draws, targets: Some(targets), finish: Some(finish), .. } = self else {
            return Ok(());
        };
        let gpu = recorder.gpu().clone();
        let bloom = if transparent { 0.0 } else { view.parts().bloom };
        finish.set(&gpu, view.parts().exposure, bloom, &mut recorder.counters);
        let entry = if transparent { "resolve_transparent" } else { "resolve" };
        let resolve = draws.pipelines.wide(entry)?;
        let (encoder, counters, timing) = recorder.split();
        if bloom > 0.0 {
            let mut pass = encoder.begin_compute_pass(&wgpu::ComputePassDescriptor {
                label: Some("bloom"),
                timestamp_writes: timing.compute(Stage::DeviceResolve),
            });
            counters.passes += 1;
            finish.spread(&mut pass, counters);
        }
        {
            let mut pass = encoder.begin_render_pass(&wgpu::RenderPassDescriptor {
                label: Some("resolve"),
                color_attachments: &[Some(colour(&targets.picture.view, LoadOp::Clear(wgpu::Color::BLACK)))],
                timestamp_writes: timing.render(Stage::DeviceResolve),
                ..Default::default()
            });
            counters.passes += 1;
            pass.set_pipeline(&resolve);
            pass.set_bind_group(0, finish.resolve(), &[]);
            counters.pipelines += 1;
            counters.binds += 1;
            pass.draw(0..3, 0..1);
        }
        if back {
            finish.copy_back(&gpu, encoder, &targets.picture.texture);
        }
        timing.record(encoder);
        Ok(())
    }

    fn bytes(&self) -> u64 {
        self.draws.bytes()
            + self.targets.as_ref().map_or(0, Targets::bytes)
            + self.backdrop.as_ref().map_or(0, BackdropOn::bytes)
            + self.finish.as_ref().map_or(0, Finish::bytes)
            + self.shadow.as_ref().map_or(0, |(side, _)| u64::from(*side).pow(2) * 4)
    }
}

/// First operation of a pass onto the picture.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Onto {
    Start,
    Solid,
    Pieces,
}

/// Splits items where the kind of pass changes.
fn ranges(items: &[Item]) -> Vec<PassRange> {
    let mut ranges: Vec<PassRange> = Vec::new();
    for (nth, item) in items.iter().enumerate() {
        match ranges.last_mut() {
            Some(last) if last.pass == item.key.pass => last.items.end = nth + 1,
            _ => ranges.push(PassRange { pass: item.key.pass, items: nth..nth + 1 }),
        }
    }
    ranges
}

fn colour(view: &wgpu::TextureView, load: LoadOp<wgpu::Color>) -> wgpu::RenderPassColorAttachment<'_> {
    let ops = Operations { load, store: StoreOp::Store };
    wgpu::RenderPassColorAttachment { view, depth_slice: None, resolve_target: None, ops }
}

fn depth(view: &wgpu::TextureView, load: LoadOp<f32>) -> wgpu::RenderPassDepthStencilAttachment<'_> {
    let depth_ops = Some(Operations { load, store: StoreOp::Store });
    wgpu::RenderPassDepthStencilAttachment { view, depth_ops, stencil_ops: None }
}
