//! Flocks: elements that steer by those around them, and look at other populations.

use frolic_core::backend::{MOST_SEEN, flock_bodies, why_flock_not_on_device};
use frolic_core::neighbours::{NeighbourSpec, Neighbours};
use frolic_core::{
    Assets, Column, ColumnsEdit, Counter, Flock, FlockSpec, Meter, OtherElements, SavedState, SpecError,
    Target, TargetSpec, TrailSpec,
};
use frolic_diagnostics::Mark;
use frolic_draw::{Instances, Part, SunSpec, Trails, View, chunk_parts};
use smallvec::SmallVec;

use super::{
    BuildContext, CheckContext, DrawContext, Drawables, Elements, FamilySpec, ResidenceContext,
    RetuneContext, SightPlan, StepContext, check_pusher, one_of, prepared, seen,
};
use crate::device::OnDevice;
use crate::families::particles::not_saved;
use crate::places_file::Places;
use crate::population::PopulationSpec;
use crate::resident::{FlockOnDevice, Retuned};

#[cfg(feature = "schema")]
impl super::LiveKeys for FlockSpec {
    const LIVE: &'static [&'static str] = &[
        "separation",
        "alignment",
        "cohesion",
        "view_degrees",
        "wander_degrees",
        "cruise",
        "speed_limits",
        "turn_degrees",
        "acceleration",
        "drag",
        "within",
        "look_ahead",
        "avoid",
        "level",
        "bank",
        "seek",
        "flee",
        "alarm",
        "hunt",
        "joining",
        "tint_by",
        "neighbours",
        "most",
    ];
}

impl FamilySpec for FlockSpec {
    fn key(&self) -> &'static str {
        "flock"
    }

    fn reads(&self) -> &'static [&'static str] {
        &["field", "event", "trail", "apart"]
    }

    fn check(&self, population: &PopulationSpec, context: &CheckContext<'_>) -> Result<(), SpecError> {
        FlockSpec::check(self, population.count).map_err(|error| error.under("flock"))?;
        if !population.kind.is_empty() {
            let problem = "does nothing: flocks have no kinds";
            return Err(SpecError::new("kind", problem, "leave it out, or write several populations"));
        }
        let lists = [("seek", &self.seek), ("flee", &self.flee)];
        for (list, nth, spec) in lists
            .into_iter()
            .flat_map(|(list, all)| all.iter().enumerate().map(move |(nth, spec)| (list, nth, spec)))
        {
            match &spec.target {
                Target::Population(name) => {
                    let key = format!("flock.{list}.{nth}.target.population");
                    other(&key, name, population, context)?;
                    if list == "flee" && is_everywhere(spec) && flees(name, &population.name, context.all) {
                        let problem = format!(
                            "'{}' flees '{name}', and is fled by it, at any distance: they would flee without end",
                            population.name
                        );
                        let instead = "write a radius of flight for one of them";
                        return Err(SpecError::new(key, problem, instead));
                    }
                }
                Target::Pusher(name) => {
                    check_pusher(&format!("flock.{list}.{nth}.target.pusher"), name, context)?;
                }
                _ => {}
            }
        }
        let Some(hunt) = &self.hunt else { return Ok(()) };
        let prey = other("flock.hunt.prey", &hunt.prey, population, context)?;
        let Some(prey) = &prey.flock else {
            let problem = format!("'{}' is no flock", hunt.prey);
            return Err(SpecError::new("flock.hunt.prey", problem, "hunt a flock, or add a collector"));
        };
        // Those who hunt each other would both be gone.
        if prey.hunt.as_ref().is_some_and(|other| other.prey == population.name) {
            let problem = format!("'{}' hunts '{}' too", hunt.prey, population.name);
            return Err(SpecError::new("flock.hunt.prey", problem, "let one of them flee"));
        }
        Ok(())
    }

    /// Until rules have found their shape.
    fn warm_up_seconds(&self, _population: &PopulationSpec) -> f32 {
        4.0
    }

    fn runs_on_device(&self) -> bool {
        true
    }

    fn why_not_on_device(&self, context: &ResidenceContext<'_>) -> Option<String> {
        let ResidenceContext { population, all, size, world, assets } = *context;
        if population.trail.is_some() {
            return Some("its elements leave trails".to_owned());
        }
        let many = self.seek.iter().chain(&self.flee).find_map(|target| match &target.target {
            Target::Population(name) => {
                all.iter().find(|other| other.name == *name && other.count > MOST_SEEN)
            }
            _ => None,
        });
        if let Some(many) = many {
            return Some(format!("it seeks or flees '{}', of over {MOST_SEEN} elements", many.name));
        }
        let bodies = flock_bodies(self, population.count, size, &population.field);
        why_flock_not_on_device(self, &bodies, &population.event, world, assets)
    }

    fn looks_at(&self) -> Vec<&str> {
        FlockSpec::looks_at(self).collect()
    }

    fn build(&self, context: &mut BuildContext<'_>) -> Result<Box<dyn Elements>, SpecError> {
        if let Some(device) = &mut context.device {
            let &mut BuildContext { population, count, size, seed, assets, .. } = context;
            let of = FlockOnDevice {
                spec: self,
                count,
                size,
                seed,
                fields: &population.field,
                apart: population.apart,
            };
            let retuned = Retuned::default();
            let on = device.flock(&population.name, of, assets, &retuned);
            let on = on.map_err(|error| error.under("flock"))?;
            return Ok(Box::new(ResidentFlock { on, spec: self.clone(), retuned }));
        }
        let &mut BuildContext { population, count, size, seed, assets, look, .. } = context;
        let mut flock = Flock::with_assets(self, count, size, seed, assets)
            .map_err(|error| error.under("flock"))?
            .with_events(&population.event)?
            .with_fields(&population.field, assets)?;
        if let Some(trail) = &population.trail {
            flock = flock.with_trail(&TrailSpec::new(trail.places, trail.every))?;
        }
        if let Some(apart) = &population.apart {
            flock = flock.with_apart(apart)?;
        }
        Ok(Box::new(School {
            flock,
            assets: assets.clone(),
            tint: Vec::new(),
            is_tinted: false,
            looks_at: FlockSpec::looks_at(self).map(str::to_owned).collect(),
            parts: Vec::new(),
            reach: look.reach_of(size.max, None),
            trails: Trails::default(),
        }))
    }
}

/// Whether a target is sought or fled however far it is.
fn is_everywhere(target: &TargetSpec) -> bool {
    target.radius >= 1e6
}

/// Whether a population flees another at any distance, or one that does, and so on.
fn flees(from: &str, to: &str, all: &[PopulationSpec]) -> bool {
    let mut reached = vec![from];
    let mut next = 0;
    while let Some(name) = reached.get(next).copied() {
        next += 1;
        let flock = all.iter().find(|other| other.name == name).and_then(|other| other.flock.as_ref());
        let fled = flock.iter().flat_map(|flock| &flock.flee).filter(|target| is_everywhere(target));
        for target in fled {
            let Target::Population(fled) = &target.target else { continue };
            if fled == to {
                return true;
            }
            if !reached.contains(&fled.as_str()) {
                reached.push(fled);
            }
        }
    }
    false
}

/// Another population of the scene, by its name.
fn other<'a>(
    key: &str,
    name: &str,
    own: &PopulationSpec,
    context: &CheckContext<'a>,
) -> Result<&'a PopulationSpec, SpecError> {
    if name == own.name {
        let problem = format!("'{name}' is this population itself");
        return Err(SpecError::new(key, problem, "name another one"));
    }
    context.all.iter().find(|other| other.name == name).ok_or_else(|| {
        let names = context.all.iter().map(|other| other.name.as_str()).filter(|other| *other != own.name);
        let instead = one_of(names, "add one of this name");
        SpecError::new(key, format!("there is no population '{name}'"), instead)
    })
}

/// A flock, and what drawing needs of it.
#[derive(Debug, Clone)]
struct School {
    flock: Flock,
    /// For targets and walls of a changed spec.
    assets: Assets,
    tint: Vec<f32>,
    is_tinted: bool,
    /// Names of the populations that it looks at.
    looks_at: Vec<String>,
    parts: Vec<Part>,
    /// How far what is drawn of an element reaches from its place, in metres.
    reach: f32,
    trails: Trails,
}

impl School {
    fn drawn(&self, lag: f32) -> Result<Instances<'_>, SpecError> {
        // Before the first step elements are where they start.
        let lag = lag.min(self.flock.last_step());
        prepared(self.flock.poses(), self.is_tinted.then_some(&self.tint[..]), &self.parts, lag)
    }
}

/// Elements whose links a plan shows.
const LINKED: usize = 12;

/// Which elements of a flock see each other.
fn sight(flock: &Flock) -> SightPlan {
    let (columns, around) = (flock.columns(), flock.own_columns().around());
    let mut sorted = around.to_vec();
    sorted.sort_by(f32::total_cmp);
    let most = sorted.get(sorted.len() * 49 / 50).copied().unwrap_or(0.0).max(1.0);
    let ([px, py, pz], [vx, _, vz]) = (columns.position(), columns.velocity());
    let mark = |nth: usize| Mark {
        place: [px[nth], pz[nth]],
        turn: vx[nth].atan2(vz[nth]),
        radius: columns.size()[nth] * 0.25,
        tint: (around[nth] / most).min(1.0),
        kind: 0,
    };
    let marks = (0..flock.len()).map(mark).collect();
    let mut plan = SightPlan { marks, heights: py.to_vec(), most, links: Vec::new() };
    let radius = flock.spec().cohesion.radius;
    let near = Neighbours::new(&NeighbourSpec::new(radius)).and_then(|mut near| {
        near.find(&[columns.position()], &mut Meter::new())?;
        Ok(near)
    });
    let Ok(near) = near else { return plan };
    // In the order of cells chosen ones are spread over the flock.
    for chosen in (0..LINKED.min(flock.len())).map(|nth| (nth * 2 + 1) * flock.len() / (LINKED * 2)) {
        let at = columns.position().map(|column| column[chosen]);
        let heading = columns.velocity().map(|column| column[chosen]);
        let others = near.within(at, radius).filter(|other| other.index != chosen);
        let seen = others.filter(|other| flock.spec().sees(heading, other.offset));
        plan.links.extend(seen.map(|other| [at, [px[other.index], py[other.index], pz[other.index]]]));
    }
    plan
}

/// A flock on the device.
#[derive(Debug)]
struct ResidentFlock {
    on: OnDevice,
    spec: FlockSpec,
    retuned: Retuned,
}

impl Elements for ResidentFlock {
    /// Only the device has the number.
    fn len(&self, _context: DrawContext<'_>) -> usize {
        0
    }

    fn bytes(&self, _context: DrawContext<'_>) -> u64 {
        self.on.bytes
    }

    fn can_retune(&self, change: &RetuneContext<'_>) -> bool {
        let Some(flock) = &change.population.flock else { return false };
        let same = PopulationSpec { flock: Some(flock.clone()), ..change.before.clone() };
        let dressed = RetuneContext { before: &same, ..*change };
        dressed.is_dressed_only()
            && flock.starts_as(&self.spec)
            && flock.hunt.is_some() == self.spec.hunt.is_some()
    }

    /// The device takes it over before its next step.
    fn retune(&mut self, change: &RetuneContext<'_>) {
        if let Some(flock) = &change.population.flock
            && *flock != self.spec
        {
            self.spec = flock.clone();
            self.retuned.set(flock.clone());
        }
    }

    fn instances<'a>(&'a self, context: DrawContext<'a>) -> Result<Drawables<'a>, SpecError> {
        let mut all = Drawables::default();
        self.on.shards.iter().for_each(|shard| all.push(Instances::on_device(*shard, context.lag), 0));
        Ok(all)
    }

    fn places(&mut self, _context: DrawContext<'_>) -> Option<Places> {
        None
    }

    fn save(&self) -> Result<SavedState, SpecError> {
        Err(not_saved())
    }
}

impl Elements for School {
    fn len(&self, _context: DrawContext<'_>) -> usize {
        self.flock.len()
    }

    fn bytes(&self, _context: DrawContext<'_>) -> u64 {
        self.flock.bytes()
    }

    fn looks_at_others(&self) -> bool {
        self.flock.spec().looks_at().next().is_some()
    }

    fn catch(&mut self, elements: &[u32]) {
        self.flock.catch(elements);
    }

    fn can_retune(&self, change: &RetuneContext<'_>) -> bool {
        let Some(flock) = &change.population.flock else { return false };
        let PopulationSpec { count, size, .. } = *change.population;
        let same = PopulationSpec { flock: Some(flock.clone()), count, size, ..change.before.clone() };
        let dressed = RetuneContext { before: &same, size_before: change.size, ..*change };
        dressed.is_dressed_only() && self.flock.can_retune(flock)
    }

    fn retune(&mut self, change: &RetuneContext<'_>) {
        if let Some(flock) = &change.population.flock {
            // Checked by `can_retune` and with the spec; an asset that is gone leaves the flock as it is.
            let _ = self.flock.retune(flock, change.population.count, &self.assets);
            self.looks_at = self.flock.spec().looks_at().map(str::to_owned).collect();
        }
        if change.size != change.size_before {
            self.flock.resize(change.size);
        }
        self.reach = change.look.reach_of(change.size.max, None);
    }

    fn step(&mut self, context: &mut StepContext<'_>) -> Result<(), SpecError> {
        for _ in 0..context.steps {
            {
                let Self { flock, looks_at, .. } = self;
                let names = looks_at.iter();
                let others: SmallVec<[OtherElements<'_>; 4]> =
                    names.filter_map(|name| seen(context.others, context.set, name)).collect();
                flock.step(context.world, &others, context.dt, context.meter)?;
            }
            context.start(self.flock.happened());
            context.add_caught(self.flock.picked());
            if let Some(hunt) = &self.flock.spec().hunt {
                let prey = context.others.named(&hunt.prey);
                if let Some((prey, _)) = prey {
                    context.prey.extend(self.flock.catches().iter().map(|catch| (prey, catch.element)));
                }
            }
        }
        if self.flock.len() > 1 && context.steps > 0 {
            self.flock.gauges().set_levels(context.meter);
        }
        context.meter.add(Counter::Alive, self.flock.len() as u64);
        context.meter.add(Counter::ElementBytes, self.flock.bytes());
        Ok(())
    }

    fn prepare(
        &mut self,
        context: DrawContext<'_>,
        _view: &View,
        _sun: Option<&SunSpec>,
        taper: Option<f32>,
        _meter: &mut Meter,
    ) {
        let Self { flock, tint, parts, reach, trails, .. } = self;
        self.is_tinted = flock.tint(tint);
        parts.clear();
        // Between steps elements are behind where they are, by a part of a step.
        let lag = context.lag.min(flock.last_step());
        let behind = flock.spec().speed_limits[1] * lag;
        parts.extend(chunk_parts(flock.columns().position(), *reach + behind));
        if let (Some(trail), Some(taper)) = (flock.trail(), taper) {
            trails.take(flock.columns(), trail, lag, taper);
        }
    }

    fn instances<'a>(&'a self, context: DrawContext<'a>) -> Result<Drawables<'a>, SpecError> {
        self.drawn(context.lag).map(Drawables::one)
    }

    fn trails(&self, _context: DrawContext<'_>) -> Option<Instances<'_>> {
        self.flock.trail()?;
        self.trails.instances().ok()
    }

    fn sight(&self) -> Option<SightPlan> {
        Some(sight(&self.flock))
    }

    fn groups(&self) -> Option<usize> {
        (self.flock.len() > 1).then(|| self.flock.groups())
    }

    fn column_names(&self) -> &'static [&'static str] {
        &[
            "px", "py", "pz", "vx", "vy", "vz", "age", "life", "size", "id", "key", "alarm", "bank", "way",
            "around", "nearest", "rule",
        ]
    }

    fn column<'a>(&'a self, _context: DrawContext<'a>, name: &str) -> Option<Column<'a>> {
        self.flock.columns().column(name).or_else(|| self.flock.own_columns().column(name))
    }

    fn edit(
        &mut self,
        change: &mut dyn FnMut(&mut ColumnsEdit<'_>) -> Result<(), SpecError>,
    ) -> Result<(), SpecError> {
        self.flock.edit(change)
    }

    fn try_clone(&self) -> Option<Box<dyn Elements>> {
        Some(Box::new(self.clone()))
    }

    fn save(&self) -> Result<SavedState, SpecError> {
        Ok(self.flock.save())
    }

    fn restore(&mut self, state: &SavedState) -> Result<(), SpecError> {
        self.flock.restore(state)
    }
}
