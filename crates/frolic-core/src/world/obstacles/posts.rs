//! Any number of upright posts, round and without end upwards and downwards: a grid on the ground says which are near.

use glam::Vec3;

use super::{Body, Obstacle, Touch};
use crate::foundations::error::SpecError;
use crate::world::endless::{Cells, EndlessSpec};
use crate::world::new_stamp;

/// A round post.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct Post {
    pub(crate) x: f32,
    pub(crate) z: f32,
    pub(crate) radius: f32,
}

impl Post {
    /// Distance to it and the direction away from it.
    pub(crate) fn sample(&self, place: Vec3) -> (f32, Vec3) {
        let (dx, dz) = (place.x - self.x, place.z - self.z);
        let far = dx.hypot(dz);
        (far - self.radius, if far > 1e-9 { Vec3::new(dx / far, 0.0, dz / far) } else { Vec3::X })
    }
}

/// Posts of the cells that are there.
#[derive(Debug, Clone)]
pub(crate) struct Posts {
    spec: EndlessSpec,
    cells: Cells,
    /// Whether it has been listed of a middle; until then it is around the origin.
    listed: bool,
    /// In the order of their cells.
    pub(crate) all: Vec<Obstacle>,
    /// The grid: its least cell, cells along x and z, and for each cell a post, if it holds one.
    low: [i32; 2],
    wide: [i32; 2],
    table: Vec<u32>,
    stamp: u64,
}

/// No post.
const NONE: u32 = u32::MAX;

impl Posts {
    pub(crate) fn new(spec: &EndlessSpec) -> Result<Self, SpecError> {
        let mut posts = Self {
            cells: Cells::new(spec.cells)?,
            spec: spec.clone(),
            listed: false,
            all: Vec::new(),
            low: [0; 2],
            wide: [0; 2],
            table: Vec::new(),
            stamp: 0,
        };
        posts.follow([0.0, 0.0]);
        posts.listed = false;
        Ok(posts)
    }

    pub(crate) fn cells(&self) -> &Cells {
        &self.cells
    }

    /// Another number whenever posts have appeared or gone.
    pub(crate) fn stamp(&self) -> u64 {
        self.stamp
    }

    /// Cells of its grid along x and z.
    pub(crate) fn wide(&self) -> [usize; 2] {
        self.wide.map(|wide| wide.max(0) as usize)
    }

    /// What it was made from.
    pub(crate) fn spec(&self) -> &EndlessSpec {
        &self.spec
    }

    /// The least cell of its grid.
    pub(crate) fn low(&self) -> [i32; 2] {
        self.low
    }

    /// Place and radius of the post of a cell of the grid, in metres; of radius 0 where it holds none.
    pub(crate) fn post(&self, cell: usize) -> [f32; 3] {
        match self.all.get(self.table[cell] as usize).map(|obstacle| &obstacle.body) {
            Some(Body::Post(post)) => [post.x, post.z, post.radius],
            _ => [0.0; 3],
        }
    }

    /// Moves the middle: posts appear and go with their cells.
    pub(crate) fn follow(&mut self, middle: [f32; 2]) -> bool {
        if !std::mem::replace(&mut self.listed, true) {
            // Nothing of where it was before lingers.
            self.cells.clear();
        }
        if !self.cells.follow(middle) {
            return false;
        }
        self.list();
        true
    }

    /// Whether it has been listed of a middle.
    pub(crate) fn is_listed(&self) -> bool {
        self.listed
    }

    /// Takes over saved cells.
    pub(crate) fn restore(&mut self, cells: Vec<[i32; 2]>, listed: bool) -> Result<(), SpecError> {
        self.cells.restore(cells)?;
        self.list();
        self.listed = listed;
        Ok(())
    }

    /// Lists the posts of the present cells.
    fn list(&mut self) {
        let cells = self.cells.all();
        let least = |axis: usize| cells.iter().map(|cell| cell[axis]).min().unwrap_or(0);
        let most = |axis: usize| cells.iter().map(|cell| cell[axis]).max().unwrap_or(-1);
        self.low = [least(0), least(1)];
        self.wide = [most(0) - self.low[0] + 1, most(1) - self.low[1] + 1];
        self.stamp = new_stamp();
        self.all.clear();
        self.table.clear();
        self.table.resize((self.wide[0] * self.wide[1]).max(0) as usize, NONE);
        for cell in cells {
            if let Some([x, z, radius]) = self.spec.post(*cell) {
                let at = (cell[1] - self.low[1]) * self.wide[0] + cell[0] - self.low[0];
                self.table[at as usize] = self.all.len() as u32;
                let EndlessSpec { bounce, friction, .. } = self.spec;
                self.all.push(Obstacle {
                    body: Body::Post(Post { x, z, radius }),
                    touch: Touch::Bounce,
                    bounce,
                    friction,
                });
            }
        }
    }

    /// Hands every post that a straight way may touch to `each`, by its number.
    pub(crate) fn along(&self, from: Vec3, to: Vec3, mut each: impl FnMut(u32)) {
        let side = self.cells.side();
        let span = |a: f32, b: f32, low: i32, wide: i32| {
            // A little wider, as elements near a cell's edge may touch what rounding puts beyond it.
            let first = ((a.min(b) - 1e-2) / side).floor() as i32 - low;
            let last = ((a.max(b) + 1e-2) / side).floor() as i32 - low;
            (first.max(0), last.min(wide - 1))
        };
        let (x0, x1) = span(from.x, to.x, self.low[0], self.wide[0]);
        let (z0, z1) = span(from.z, to.z, self.low[1], self.wide[1]);
        for z in z0..=z1 {
            for x in x0..=x1 {
                let post = self.table[(z * self.wide[0] + x) as usize];
                if post != NONE {
                    each(post);
                }
            }
        }
    }
}
