//! Saving and restoring the state of a world.

use serde::{Deserialize, Serialize};

use super::{World, new_stamp};
use crate::foundations::error::SpecError;
use crate::foundations::state::{SavedState, unfit};
use crate::world::obstacles::Body;

/// State of endless posts.
#[derive(Debug, Serialize, Deserialize)]
struct PostsState {
    cells: Vec<[i32; 2]>,
    listed: bool,
}

impl World {
    /// Returns the state of the world: dug masks, collectors and pushers that were moved, endless posts, and the phases of gusts and noise.
    /// [`World::restore`] gives the same bits from then on. Fields of the program's own keep their state to themselves.
    pub fn save(&self) -> SavedState {
        let mut state = SavedState::default();
        for (nth, obstacle) in self.solid.obstacles.iter().enumerate() {
            if let Body::Mask(mask) = &obstacle.body {
                state.put_numbers(&mask_key(nth), &mask.save());
            }
        }
        if let Some(posts) = &self.solid.posts {
            let (cells, listed) = (posts.cells().all().to_vec(), posts.is_listed());
            state.put("posts", &PostsState { cells, listed });
        }
        let collectors = self.collectors.iter().zip(&self.spec.collector);
        let moved: Vec<_> = collectors.map(|(collector, spec)| collector.moved_from(spec)).collect();
        state.put("collectors", &moved);
        let pushers = self.pushers.iter().zip(&self.spec.pusher);
        let moved: Vec<_> = pushers.map(|(pusher, spec)| pusher.moved_from(spec)).collect();
        state.put("pushers", &moved);
        state.put("way", &self.way);
        state.put("gusts_from", &self.gusts_from);
        state.put("fields", &self.fields.iter().map(|field| field.phases()).collect::<Vec<_>>());
        state
    }

    /// Takes over a state that a world of the same spec saved.
    ///
    /// # Errors
    /// The state is of another spec, or damaged. The world then stays as it is.
    pub fn restore(&mut self, state: &SavedState) -> Result<(), SpecError> {
        let (mut solid, mut fields) = (self.solid.clone(), self.fields.clone());
        for (nth, obstacle) in solid.obstacles.iter_mut().enumerate() {
            if let Body::Mask(mask) = &mut obstacle.body {
                let key = mask_key(nth);
                if !mask.restore(state.numbers(&key)?) {
                    return Err(unfit(&key, "is of another size"));
                }
            }
        }
        if let Some(posts) = &mut solid.posts {
            let PostsState { cells, listed } = state.value("posts")?;
            posts.restore(cells, listed).map_err(|error| error.under("posts"))?;
        }
        let collectors: Vec<Option<[f32; 3]>> = state.list("collectors", self.collectors.len())?;
        let pushers: Vec<Option<[f32; 3]>> = state.list("pushers", self.pushers.len())?;
        let (way, gusts_from) = (state.value("way")?, state.value("gusts_from")?);
        let phases = state.list("fields", fields.len())?;
        for (field, phases) in fields.iter_mut().zip(phases) {
            field.set_phases(phases);
        }
        let fresh = self.spec.collector.iter().map(super::Collector::new).collect();
        self.collectors = fresh;
        self.pushers = self.spec.pusher.iter().map(super::Pusher::new).collect();
        for (collector, to) in self.collectors.iter_mut().zip(collectors) {
            to.into_iter().for_each(|to| collector.put(to.into()));
        }
        for (pusher, to) in self.pushers.iter_mut().zip(pushers) {
            to.into_iter().for_each(|to| pusher.put(to.into()));
        }
        (self.solid, self.fields, self.way, self.gusts_from) = (solid, fields, way, gusts_from);
        self.stamp = new_stamp();
        Ok(())
    }
}

fn mask_key(nth: usize) -> String {
    format!("mask_{nth}")
}
