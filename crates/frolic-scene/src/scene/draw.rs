//! Drawing a scene: its draw list, pictures, diagnostic views and the graphics device.

use frolic_core::{Counter, Meter, ParticleSet, QualitySetting, SpecError};
use frolic_diagnostics::{Mark, PlanView, Show, neighbours_in_view};
use frolic_draw::{BackdropSpec, DepthOrder, DrawList, Image, Quality, Renderer, View};
use frolic_list::{ListScratch, Surroundings};

use crate::decor::Decor;
use crate::device::Device;
use crate::error::{DeviceError, SceneError};
use crate::families::{DrawContext, GroundPlan, SightPlan};
use crate::spec::SceneSpec;

use super::population::Population;
use super::{Scene, camera_at};

impl Scene {
    /// Builds the draw list of the present state, for a renderer of your own.
    pub fn draw_list(&mut self, meter: &mut Meter) -> DrawList<'_> {
        let Drawing { drawn, scratch, .. } = self.drawing();
        drawn.list(scratch, meter)
    }

    /// Borrows the inputs of a draw list apart from everything that draws it.
    fn drawing(&mut self) -> Drawing<'_> {
        let drawn = Drawn {
            populations: &mut self.populations,
            ended: &mut self.ended,
            set: &self.set,
            decor: &self.decor,
            spec: &self.spec,
            view: &self.view,
            backdrop: &self.backdrop,
            lag: self.lag,
            time: self.time,
            is_on_device: self.device.is_some(),
        };
        Drawing {
            drawn,
            scratch: &mut self.scratch,
            renderer: &mut self.renderer,
            image: &mut self.image,
            device: self.device.as_mut(),
        }
    }

    /// Draws the present state. The scene owns the picture, and the next call overwrites it.
    ///
    /// # Errors
    /// The graphics device was lost, or is too small for the scene. The CPU never fails.
    pub fn draw(&mut self, meter: &mut Meter) -> Result<&Image, SceneError> {
        self.show(Show::Picture, meter)
    }

    /// Draws the present state, or a diagnostic view of it.
    ///
    /// # Errors
    /// As [`Scene::draw`]. Also, a graphics device paints no diagnostic views.
    pub fn show(&mut self, show: Show, meter: &mut Meter) -> Result<&Image, SceneError> {
        match show {
            Show::Placement => return self.show_placement(),
            Show::Wind => return Ok(self.show_wind()),
            Show::Neighbours => return self.show_neighbours(true),
            Show::NeighboursInView => return self.show_neighbours(false),
            _ => {}
        }
        if self.device.is_some() {
            if show != Show::Picture {
                let name = show.name();
                return Err(DeviceError::CpuOnly { view: name }.into());
            }
            self.on_device(Take::Picture, meter)?;
            return Ok(&self.image);
        }
        // Diagnostic views are of the picture's own pixels.
        let quality = if show == Show::Picture { self.quality() } else { Quality::Full };
        self.renderer.set_quality(quality);
        self.paint(meter, |renderer, list, view, backdrop, image, meter| {
            show.paint(renderer, list, view, backdrop, image, meter);
        });
        self.take_ended()?;
        Ok(&self.image)
    }

    /// Returns the quality of the picture: that of the spec, unless the frame budget has lowered it.
    pub fn quality(&self) -> Quality {
        let share = self.frame_budget.as_ref().map_or(1.0, |budget| budget.share(QualitySetting::Picture));
        if share < 0.75 { Quality::Draft } else { self.spec.draw.quality }
    }

    /// Paints the plan of the population that profiles vary, if it is placed, else of the first population that is.
    fn show_placement(&mut self) -> Result<&Image, SceneError> {
        let Self { populations, spec, image, view, .. } = self;
        let climbing = spec.climbing().map(|population| population.name.as_str());
        let is_climbing = |nth: &usize| Some(spec.population[*nth].name.as_str()) == climbing;
        let all = 0..populations.len();
        let first = all
            .clone()
            .filter(is_climbing)
            .chain(all)
            .find_map(|nth| Some((nth, populations[nth].elements.plan()?)));
        let Some((nth, GroundPlan { marks, placement: terrain, extent })) = first else {
            let problem = "it has no placed elements: particles only have their current positions";
            return Err(SpecError::new(
                "population",
                problem,
                "show the picture, or a scene with blades, static or growing elements",
            )
            .into());
        };
        let [low, high] = extent.unwrap_or_else(|| around(&marks));
        let plan = PlanView::of(low, high, view.size());
        let height =
            terrain.map(|placement| move |x: f32, z: f32| placement.ground(x, z).map(|footing| footing.y));
        let height = height.as_ref().map(|height| height as &dyn Fn(f32, f32) -> Option<f32>);
        plan.placement(&spec.population[nth].name, &marks, height, image);
        Ok(image)
    }

    /// Paints which elements see each other, of the first population whose elements do, from above or in view.
    fn show_neighbours(&mut self, above: bool) -> Result<&Image, SceneError> {
        let Self { populations, view, image, .. } = self;
        let sight =
            populations.iter().find_map(|population| Some((&population.name, population.elements.sight()?)));
        let Some((name, sight)) = sight else {
            let problem = "none looks at those around";
            return Err(
                SpecError::new("population", problem, "show the picture, or a scene with a flock").into()
            );
        };
        let SightPlan { marks, heights, most, links } = &sight;
        if above {
            let [low, high] = around(marks);
            PlanView::of(low, high, view.size()).neighbours(name, marks, *most, links, image);
        } else {
            neighbours_in_view(name, marks, heights, *most, links, view, image);
        }
        Ok(image)
    }

    /// Paints the wind around the target of the camera, out to the distance of the camera.
    fn show_wind(&mut self) -> &Image {
        let camera = camera_at(&self.spec.camera, self.travel.as_ref(), self.time);
        let ([ex, ey, ez], [x, y, z]) = (camera.position, camera.target);
        let reach = ((ex - x).powi(2) + (ey - y).powi(2) + (ez - z).powi(2)).sqrt().clamp(1.0, 1e5);
        let plan = PlanView::of([x - reach, z - reach], [x + reach, z + reach], self.view.size());
        let time = self.time - f64::from(self.lag);
        plan.wind(&self.world, time, y, &mut self.image);
        &self.image
    }

    /// Builds the draw list and paints it on the CPU, in the scene's thread pool.
    fn paint(
        &mut self,
        meter: &mut Meter,
        paint: impl FnOnce(&mut Renderer, &DrawList<'_>, &View, &BackdropSpec, &mut Image, &mut Meter) + Send,
    ) {
        let threads = self.threads.clone();
        threads.run(|| {
            let Drawing { drawn, scratch, renderer, image, .. } = self.drawing();
            let (view, backdrop) = (drawn.view, drawn.backdrop);
            let list = drawn.list(scratch, meter);
            paint(renderer, &list, view, backdrop, image, meter);
        });
    }

    /// Draws the present state without sky, ground and water, as straight (not premultiplied) RGBA.
    ///
    /// # Errors
    /// As [`Scene::draw`].
    pub fn draw_transparent(&mut self, meter: &mut Meter) -> Result<&Image, SceneError> {
        if self.device.is_some() {
            self.on_device(Take::SeeThrough, meter)?;
            return Ok(&self.image);
        }
        self.paint(meter, |renderer, list, view, _, image, meter| {
            renderer.render_transparent(list, view, image, meter);
        });
        self.take_ended()?;
        Ok(&self.image)
    }

    /// Draws as [`Scene::draw`], without reading the picture back from a device. It waits until the device is done. Measurements use it.
    ///
    /// # Errors
    /// As [`Scene::draw`].
    pub fn draw_in_place(&mut self, meter: &mut Meter) -> Result<(), SceneError> {
        if self.device.is_some() {
            return self.on_device(Take::Nothing, meter);
        }
        self.draw(meter).map(|_| ())
    }

    fn on_device(&mut self, take: Take, meter: &mut Meter) -> Result<(), SceneError> {
        if let Some(fault) = &self.fault {
            return Err(fault.clone().into());
        }
        let Drawing { drawn, scratch, image, device, .. } = self.drawing();
        let Some(device) = device else { return Ok(()) };
        device.record(meter);
        meter.add(Counter::ReadbackAge, device.readback_age());
        let done = {
            let (view, backdrop) = (drawn.view, drawn.backdrop);
            let list = drawn.list(scratch, meter);
            let (backdrop, image) = match take {
                Take::Picture => (Some(backdrop), Some(image)),
                Take::SeeThrough => (None, Some(image)),
                Take::Nothing => (Some(backdrop), None),
            };
            device.draw(&list, view, backdrop, image, meter)
        };
        device.request_readback();
        done.inspect_err(|problem| self.fault = Some(problem.clone()))?;
        self.take_ended()
    }

    /// Returns an error for each population that has ended, once.
    fn take_ended(&mut self) -> Result<(), SceneError> {
        if self.ended.is_empty() { Ok(()) } else { Err(self.ended.remove(0)) }
    }

    /// Waits for the present counts of device-resident populations, and adds them to the meter. This stalls; use it at the end of a run.
    ///
    /// # Errors
    /// The device was lost.
    pub fn wait(&mut self, meter: &mut Meter) -> Result<(), SceneError> {
        let Self { device: Some(device), caught, .. } = self else { return Ok(()) };
        device.wait(meter)?;
        device.take_caught(caught);
        self.decor.update_texts(self.time, &self.caught);
        Ok(())
    }
}

/// Returns the rectangle around marks; a default one if there are none.
fn around(marks: &[Mark]) -> [[f32; 2]; 2] {
    let mut extent = [[f32::INFINITY; 2], [f32::NEG_INFINITY; 2]];
    for place in marks.iter().map(|mark| mark.place) {
        for axis in 0..2 {
            extent[0][axis] = extent[0][axis].min(place[axis]);
            extent[1][axis] = extent[1][axis].max(place[axis]);
        }
    }
    if marks.is_empty() { [[-5.0; 2], [5.0; 2]] } else { extent }
}

/// What a device draws, and whether it is read back.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Take {
    Picture,
    SeeThrough,
    Nothing,
}

/// A scene divided into the inputs of a draw list and everything that draws it.
struct Drawing<'a> {
    drawn: Drawn<'a>,
    scratch: &'a mut ListScratch,
    renderer: &'a mut Renderer,
    image: &'a mut Image,
    device: Option<&'a mut Device>,
}

/// The inputs of a draw list.
struct Drawn<'a> {
    populations: &'a mut [Population],
    ended: &'a mut Vec<SceneError>,
    set: &'a ParticleSet,
    decor: &'a Decor,
    spec: &'a SceneSpec,
    view: &'a View,
    backdrop: &'a BackdropSpec,
    lag: f32,
    time: f64,
    is_on_device: bool,
}

impl<'a> Drawn<'a> {
    fn list(self, scratch: &'a mut ListScratch, meter: &mut Meter) -> DrawList<'a> {
        let (context, sun) = (DrawContext { set: self.set, lag: self.lag }, self.spec.sun.as_ref());
        for population in &mut *self.populations {
            population.attempt(self.ended, |population| {
                population.prepare(context, self.view, sun, meter);
                population.elements.instances(context).map(drop)
            });
        }
        let populations = &*self.populations;
        let elements = populations.iter().flat_map(|population| {
            // Trails first, so that elements are drawn in front of them.
            let trails =
                population.trail.as_ref().and_then(|look| Some((population.elements.trails(context)?, look)));
            // Those that cannot be drawn have ended above.
            let instances = population.elements.instances(context).unwrap_or_default().into_inner();
            let look = |kind: usize| match kind.checked_sub(1) {
                None => &population.look,
                Some(further) => population.kinds.get(further).unwrap_or(&population.look),
            };
            let dressed = instances.into_iter().map(move |(instances, kind)| (instances, look(kind)));
            trails.into_iter().chain(dressed)
        });
        let around = Surroundings::new(self.backdrop)
            .lights(&self.spec.light)
            .sun(sun)
            .time((self.time - f64::from(self.lag)) as f32);
        let mut spec = self.spec.draw.list();
        if self.is_on_device && spec.depth_order == DepthOrder::Weighted {
            spec.depth_order = DepthOrder::Population;
        }
        scratch.list(elements.chain(self.decor.drawn()), &spec, self.view, &around, meter)
    }
}
