//! A population that grows in a scene: its state, and what of it is drawn.

use frolic_core::{
    Forms, GrowSpec, Growing, Meter, PlacedColumns, PlacedRow, Ramp, ShownRow, Span, SpecError,
};
use frolic_diagnostics::Mark;
use frolic_draw::{Bounds, Instances, Look, Part, SunSpec, View};

/// Growing elements, and the parts that drawing asks for.
#[derive(Debug)]
pub(crate) struct Grove {
    pub(crate) growing: Growing,
    parts: Vec<Part>,
    /// How far what is drawn of an element reaches from its place, m.
    margin: f32,
    /// Distance beyond which none is drawn, m.
    reach: f32,
    /// Factor on the size over growth.
    size: Ramp<f32>,
}

impl Grove {
    pub(crate) fn new(
        spec: &GrowSpec,
        count: u32,
        size: Span,
        seed: u32,
        forms: &Forms,
        (look, ramp): (&Look, &Ramp<f32>),
    ) -> Result<Self, SpecError> {
        let growing = Growing::with_forms(spec, count, size, seed, forms)?;
        let parts = Vec::with_capacity(growing.clusters().len());
        let (margin, reach) = (look.reach_of(size.max, None), look.parts().detail.reach);
        Ok(Self { growing, parts, margin, reach, size: ramp.clone() })
    }

    fn look(&mut self, view: &View, sun: Option<&SunSpec>) {
        let (margin, reach, eye) = (self.margin, self.reach, view.parts().eye);
        self.growing.look(|place, radius| {
            let near = eye.distance(place.into()) - radius - margin <= reach;
            near && view.concerns(&ball(place, radius + margin), sun)
        });
    }

    pub(crate) fn step(
        &mut self,
        view: &View,
        sun: Option<&SunSpec>,
        dt: f32,
        steps: u32,
        meter: &mut Meter,
    ) {
        self.look(view, sun);
        self.growing.step(dt, steps, meter);
    }

    /// Works out what is in view, for a picture.
    pub(crate) fn prepare(&mut self, view: &View, sun: Option<&SunSpec>, meter: &mut Meter) {
        self.look(view, sun);
        self.growing.show(meter);
        self.parts.clear();
        for &(nth, first) in self.growing.visible() {
            let cluster = &self.growing.clusters()[nth as usize];
            let bounds = ball(cluster.place, cluster.radius + self.margin);
            self.parts.push(Part { first, count: cluster.len, bounds });
        }
    }

    pub(crate) fn instances(&self) -> Result<Instances<'_>, SpecError> {
        let shown = self.growing.shown();
        Instances::at(shown.position())?
            .sized(shown.size())?
            .turned(shown.turn(), shown.tilt())?
            .ageing(shown.growth(), shown.whole())?
            .tinted(shown.tint())?
            .keyed(shown.id())?
            .in_parts(&self.parts)
    }

    /// Where every element is, in view or not, and how large by now.
    pub(crate) fn placed(&mut self) -> PlacedColumns {
        self.growing.look(|_, _| true);
        let shown = self.growing.show(&mut Meter::new());
        let row = |n: usize| {
            let row = shown.row(n).filter(|row| row.growth >= 0.0)?;
            let ShownRow { px, py, pz, turn, tilt, tint, id, .. } = row;
            let size = row.size * self.size.at(row.growth);
            Some(PlacedRow { px, py, pz, turn, tilt, size, tint, id, ..PlacedRow::UPRIGHT })
        };
        PlacedColumns::from_rows((0..shown.len()).filter_map(row))
    }

    /// A mark for each cluster.
    pub(crate) fn marks(&self, into: &mut Vec<Mark>) {
        into.extend(self.growing.clusters().iter().map(|cluster| Mark {
            place: [cluster.place[0], cluster.place[2]],
            turn: cluster.turn,
            radius: cluster.radius,
            tint: 0.5,
            kind: cluster.layout,
        }));
    }
}

fn ball(place: [f32; 3], radius: f32) -> Bounds {
    Bounds { low: place.map(|v| v - radius), high: place.map(|v| v + radius) }
}
