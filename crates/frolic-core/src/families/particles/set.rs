//! Populations that start one another: events of one are births of another.

use std::sync::Arc;

use super::emit::Newborn;
use super::retune::Retune;
use super::{ParticleSpec, Particles, Storage, children};
use crate::assets::Assets;
use crate::foundations::change::Change;
use crate::foundations::error::{SpecError, listed};
use crate::foundations::meter::{Counter, Meter, Stage};
use crate::foundations::state::SavedState;
use crate::world::World;
use crate::world::events::{EventRecord, EventSpec, Moment};

/// Named populations whose events may start elements of each other.
///
/// ```
/// use frolic_core::{EmitterSpec, EventSpec, Meter, Moment, ParticleSet, ParticleSpec, WorldSpec};
///
/// let rocket = ParticleSpec::new(10)
///     .life(0.5, 0.5)
///     .emitter(EmitterSpec::burst(1, 0.0).speed(9.0, 9.0))
///     .event(EventSpec::start(Moment::Death, "sparks", 80.0));
/// let mut set = ParticleSet::default();
/// set.add("rocket", &rocket, 1)?;
/// set.add("sparks", &ParticleSpec::new(1000), 2)?;
/// set.link()?;
/// set.step(&WorldSpec::default().build()?, 0.02, 30, &mut Meter::new());
/// assert_eq!(set.get("sparks").map(|sparks| sparks.len()), Some(80));
/// # Ok::<(), frolic_core::SpecError>(())
/// ```
#[derive(Debug, Clone, Default)]
pub struct ParticleSet {
    names: Vec<String>,
    members: Vec<Particles>,
    /// For each member's events: the member that they start elements of.
    targets: Vec<Vec<Option<usize>>>,
    /// For each member: number of its event records that were followed, and of elements that its events started in this step.
    followed: Vec<usize>,
    started: Vec<Vec<u32>>,
    /// Populations of other families, whose events may start elements of members.
    sources: Vec<Source>,
}

/// What a changed population needs, built before anything changes.
enum Prepared {
    Member(usize, Box<Retune>),
    /// New events, and how the elements that they start are made.
    Source(usize, Vec<EventSpec>, Arc<[Newborn]>),
}

/// Events of a population of another family.
#[derive(Debug, Clone)]
struct Source {
    name: String,
    events: Vec<EventSpec>,
    children: Arc<[Newborn]>,
    targets: Vec<Option<usize>>,
    started: Vec<u32>,
}

impl ParticleSet {
    /// Adds a population stored as columns. Returns its index.
    ///
    /// # Errors
    /// As [`Particles::new`], or the name exists already.
    pub fn add(&mut self, name: &str, spec: &ParticleSpec, seed: u32) -> Result<usize, SpecError> {
        self.add_with(name, spec, seed, Storage::Columns, &Assets::default())
    }

    /// Adds a population in one kind of storage, whose emitters and fields may name assets. Returns its index.
    ///
    /// # Errors
    /// As [`Particles::with_assets`], or the name exists already.
    pub fn add_with(
        &mut self,
        name: &str,
        spec: &ParticleSpec,
        seed: u32,
        storage: Storage,
        assets: &Assets,
    ) -> Result<usize, SpecError> {
        self.check_name(name)?;
        self.members.push(Particles::with_assets(spec, seed, storage, assets)?);
        self.names.push(name.to_owned());
        self.targets.push(vec![None; spec.event.len()]);
        self.followed.push(0);
        self.started.push(vec![0; spec.event.len()]);
        Ok(self.members.len() - 1)
    }

    /// Adds the events of a population of another family, which may start elements of members. Returns its index for
    /// [`ParticleSet::start_from`].
    ///
    /// # Errors
    /// A value is out of range, an asset is missing or of another kind, or the name exists already.
    pub fn add_source(
        &mut self,
        name: &str,
        events: &[EventSpec],
        assets: &Assets,
    ) -> Result<usize, SpecError> {
        self.check_name(name)?;
        self.sources.push(Source {
            name: name.to_owned(),
            events: events.to_vec(),
            children: children(events, assets)?,
            targets: vec![None; events.len()],
            started: vec![0; events.len()],
        });
        Ok(self.sources.len() - 1)
    }

    /// Refuses a name that a member or a source has.
    fn check_name(&self, name: &str) -> Result<(), SpecError> {
        let mut names = self.names.iter().chain(self.sources.iter().map(|source| &source.name));
        if names.any(|other| other == name) {
            return Err(SpecError::new("name", format!("'{name}' is used twice"), "write another name"));
        }
        Ok(())
    }

    /// Starts the elements that the event records of a source ask for, in their order, and what their births start in turn. Call it after
    /// [`ParticleSet::step`]. Each event starts no more than its cap.
    pub fn start_from(&mut self, source: usize, happened: &[EventRecord], meter: &mut Meter) {
        if happened.is_empty() || source >= self.sources.len() {
            return;
        }
        let started = meter.start(Stage::Emit);
        let Self { sources, members, .. } = self;
        let Source { events, children, targets, started: counts, .. } = &mut sources[source];
        counts.fill(0);
        for (nth, target) in targets.iter().enumerate() {
            let Some(target) = *target else { continue };
            for happening in happened.iter().filter(|happening| happening.event as usize == nth) {
                members[target].start(&events[nth], &children[nth], happening, &mut counts[nth], meter);
            }
        }
        self.follow_all(meter);
        meter.add(Counter::Events, happened.len() as u64);
        meter.stop(started);
    }

    /// Returns the state of all members, by their names.
    pub fn save(&self) -> SavedState {
        let mut state = SavedState::default();
        for (name, member) in self.names.iter().zip(&self.members) {
            state.put_part(name, member.save());
        }
        state
    }

    /// Takes over a state that a set of the same members saved.
    ///
    /// # Errors
    /// As [`Particles::restore`], with the name of the member. Members before it have taken theirs over.
    pub fn restore(&mut self, state: &SavedState) -> Result<(), SpecError> {
        for (name, member) in self.names.iter().zip(&mut self.members) {
            state.restore(name, |part| member.restore(part))?;
        }
        self.followed.fill(0);
        Ok(())
    }

    /// Resolves the populations that events name. Call it after the last population was added; before, events start nothing.
    ///
    /// # Errors
    /// No population has a name that an event gives, or a ring of events could start ever more elements.
    pub fn link(&mut self) -> Result<(), SpecError> {
        let targets = self.links(&[])?;
        self.connect(targets);
        Ok(())
    }

    /// Changes the specs of running populations, given by name, as [`Particles::retune_with`], and links their events; of a population of another
    /// family only the events count. Returns the effect on each.
    ///
    /// # Errors
    /// As [`Particles::with_assets`] and [`ParticleSet::link`], or no population has a name. All populations then stay as they are.
    pub fn retune(
        &mut self,
        specs: &[(&str, &ParticleSpec)],
        assets: &Assets,
    ) -> Result<Vec<Change>, SpecError> {
        let targets = self.links(specs)?;
        let mut retunes = Vec::with_capacity(specs.len());
        for (name, spec) in specs {
            let under = |error: SpecError| error.under(name);
            let member = self.names.iter().position(|other| other == name);
            let source = self.sources.iter().position(|source| source.name == *name);
            retunes.push(match (member, source) {
                (Some(nth), _) => {
                    let retune = self.members[nth].prepare(spec, assets).map_err(under)?;
                    retune.map(|retune| Prepared::Member(nth, Box::new(retune)))
                }
                (None, Some(nth)) if self.sources[nth].events != spec.event => {
                    let children = children(&spec.event, assets).map_err(under)?;
                    Some(Prepared::Source(nth, spec.event.clone(), children))
                }
                (None, Some(_)) => None,
                (None, None) => {
                    let instead = format!("write one of: {}", listed(self.names.iter().map(String::as_str)));
                    return Err(SpecError::new("name", format!("there is no population '{name}'"), instead));
                }
            });
        }
        let change = |retune: &Option<Prepared>| match retune {
            Some(_) => Change::Live,
            None => Change::Unchanged,
        };
        let changes = retunes.iter().map(change).collect();
        for retune in retunes.into_iter().flatten() {
            match retune {
                Prepared::Member(nth, retune) => {
                    self.members[nth].commit(*retune);
                    self.followed[nth] = 0;
                }
                Prepared::Source(nth, events, children) => {
                    (self.sources[nth].events, self.sources[nth].children) = (events, children);
                }
            }
        }
        self.connect(targets);
        Ok(changes)
    }

    /// Sets the populations that events start elements of, members first, then sources.
    fn connect(&mut self, mut targets: Vec<Vec<Option<usize>>>) {
        let of_sources = targets.split_off(self.names.len());
        for (source, targets) in self.sources.iter_mut().zip(of_sources) {
            source.started.resize(targets.len(), 0);
            source.targets = targets;
        }
        for (started, targets) in self.started.iter_mut().zip(&targets) {
            started.resize(targets.len(), 0);
        }
        self.targets = targets;
    }

    /// Resolves the populations that events name, members first, then sources. `changed` replaces the events of populations by name.
    fn links<'s>(
        &'s self,
        changed: &'s [(&str, &'s ParticleSpec)],
    ) -> Result<Vec<Vec<Option<usize>>>, SpecError> {
        let members = self.names.iter().zip(self.members.iter().map(|member| &member.spec.event));
        let sources = self.sources.iter().map(|source| (&source.name, &source.events));
        let events = |(name, own): (&'s String, &'s Vec<EventSpec>)| {
            let new = changed.iter().find(|(other, _)| other == name);
            (name.as_str(), new.map_or(&own[..], |(_, spec)| &spec.event[..]))
        };
        let specs: Vec<(&str, &[EventSpec])> = members.chain(sources).map(events).collect();
        let targets = check_events(&specs)?;
        let names = &self.names;
        for ((name, events), targets) in specs.iter().zip(&targets) {
            if let Some(nth) = targets.iter().position(|to| to.is_some_and(|to| to >= names.len())) {
                let start = events[nth].start.as_deref().unwrap_or_default();
                let problem = format!("'{start}' is not a population of particles");
                let instead = format!("write one of: {}", listed(names.iter().map(String::as_str)));
                return Err(SpecError::new(format!("{name}.event.{nth}.start"), problem, instead));
            }
        }
        Ok(targets)
    }

    /// The population of this name.
    pub fn get(&self, name: &str) -> Option<&Particles> {
        self.names.iter().position(|other| other == name).map(|nth| &self.members[nth])
    }

    /// The population of this name, for commanding its emitters.
    pub fn get_mut(&mut self, name: &str) -> Option<&mut Particles> {
        self.names.iter().position(|other| other == name).map(|nth| &mut self.members[nth])
    }

    /// All populations, in order of addition.
    pub fn members(&self) -> &[Particles] {
        &self.members
    }

    /// All populations, for commanding their emitters.
    pub fn members_mut(&mut self) -> &mut [Particles] {
        &mut self.members
    }

    /// Takes `steps` steps of `dt` seconds (finite and above 0; others are not taken): moves every population, then lets
    /// events start elements until nothing more follows. Each event starts no more than its cap in a step. As [`Particles::step`].
    pub fn step(&mut self, world: &World, dt: f32, steps: u32, meter: &mut Meter) {
        self.members.iter_mut().for_each(Particles::begin);
        self.followed.fill(0);
        if !(dt.is_finite() && dt > 0.0) {
            return;
        }
        for _ in 0..steps {
            self.members.iter_mut().for_each(|member| member.step_once(world, dt, meter));
            let started = meter.start(Stage::Emit);
            self.follow_all(meter);
            meter.stop(started);
        }
        self.members.iter_mut().for_each(|member| member.end(steps, meter));
    }

    /// Starts what the event records ask for, and what the births start in turn.
    fn follow_all(&mut self, meter: &mut Meter) {
        self.started.iter_mut().for_each(|counts| counts.fill(0));
        // Births may start others at once. Rings of births are refused, so no chain is longer than the number of members.
        while self.follow(meter) {}
    }

    /// Starts what the new event records ask for. Returns whether there were any.
    fn follow(&mut self, meter: &mut Meter) -> bool {
        let mut any = false;
        for parent in 0..self.members.len() {
            let end = self.members[parent].happened().len();
            let news = std::mem::replace(&mut self.followed[parent], end)..end;
            if news.is_empty() {
                continue;
            }
            any = true;
            // Shared, because a population may start elements of itself.
            let Particles { spec, children, .. } = &self.members[parent];
            let (spec, children) = (Arc::clone(spec), Arc::clone(children));
            // Event by event, each in the order of the elements.
            for (event, target) in self.targets[parent].iter().enumerate() {
                let Some(target) = *target else { continue };
                let started = &mut self.started[parent][event];
                for nth in news.clone() {
                    let happening = self.members[parent].happened()[nth];
                    if happening.event as usize == event {
                        let to = &mut self.members[target];
                        to.start(&spec.event[event], &children[event], &happening, started, meter);
                    }
                }
            }
        }
        any
    }
}

/// Resolves the population that each event starts elements of, for populations by name.
///
/// # Errors
/// As [`ParticleSet::link`].
pub fn check_events(populations: &[(&str, &[EventSpec])]) -> Result<Vec<Vec<Option<usize>>>, SpecError> {
    let mut targets = Vec::with_capacity(populations.len());
    for (name, events) in populations {
        let mut of = Vec::with_capacity(events.len());
        for (nth, event) in events.iter().enumerate() {
            let Some(start) = &event.start else {
                of.push(None);
                continue;
            };
            let Some(target) = populations.iter().position(|(other, _)| other == start) else {
                return Err(SpecError::new(
                    format!("{name}.event.{nth}.start"),
                    format!("there is no population '{start}'"),
                    format!("write one of: {}", listed(populations.iter().map(|(name, _)| *name))),
                ));
            };
            of.push(Some(target));
        }
        targets.push(of);
    }
    check_rings(populations, &targets)?;
    Ok(targets)
}

/// Refuses rings of events in which each round could start more elements than the one before, and rings of births, which would not end
/// within a step.
///
/// The most that one element of population i can lead to of population j by one event is a matrix; along a ring its entries multiply. A
/// ring grows if the product is over 1: the largest product over all ways is found by Floyd's (1962) scheme.
fn check_rings(
    populations: &[(&str, &[EventSpec])],
    targets: &[Vec<Option<usize>>],
) -> Result<(), SpecError> {
    let count = populations.len();
    let gains = |only_births: bool| {
        let mut gain = vec![0.0f64; count * count];
        for (from, (_, events)) in populations.iter().enumerate() {
            for (event, target) in events.iter().zip(&targets[from]) {
                if let Some(to) = target
                    && (!only_births || event.on == Moment::Birth)
                {
                    // An element may live to see each of its population's events.
                    gain[from * count + to] += f64::from(event.most_children());
                }
            }
        }
        for over in 0..count {
            for from in 0..count {
                for to in 0..count {
                    let (a, b) = (gain[from * count + over], gain[over * count + to]);
                    if a > 0.0 && b > 0.0 {
                        let all = &mut gain[from * count + to];
                        // Bounded, so that the product along a growing ring stays finite.
                        *all = all.max(a * b).min(1e30);
                    }
                }
            }
        }
        (0..count).map(|nth| gain[nth * count + nth]).collect::<Vec<_>>()
    };
    let wrong = |nth: usize, problem: &str, instead: &str| {
        Err(SpecError::new(format!("{}.event", populations[nth].0), problem, instead))
    };
    if let Some(nth) = gains(true).iter().position(|gain| *gain > 0.0) {
        return wrong(
            nth,
            "births start births in an endless ring",
            "break the ring, or start at a later moment",
        );
    }
    if let Some(nth) = gains(false).iter().position(|gain| *gain > 1.0) {
        let problem = "each round of this ring of events could start more elements than the last";
        return wrong(nth, problem, "write a smaller count or chance, or break the ring");
    }
    Ok(())
}
