//! Edits of running elements: columns by name, mutable, checked afterwards.

use crate::foundations::error::{SpecError, listed};

/// A column, read.
#[derive(Debug, Clone, Copy, PartialEq)]
#[non_exhaustive]
pub enum Column<'a> {
    /// Numbers with a fraction.
    Floats(&'a [f32]),
    /// Keys, kinds and numbers of elements.
    Numbers(&'a [u32]),
}

impl<'a> From<&'a [f32]> for Column<'a> {
    fn from(column: &'a [f32]) -> Self {
        Self::Floats(column)
    }
}

impl<'a> From<&'a [u32]> for Column<'a> {
    fn from(column: &'a [u32]) -> Self {
        Self::Numbers(column)
    }
}

impl<'a> Column<'a> {
    /// Its values, if they have fractions.
    pub fn floats(self) -> Option<&'a [f32]> {
        match self {
            Self::Floats(values) => Some(values),
            Self::Numbers(_) => None,
        }
    }
}

/// Columns of a running population, to be changed: see [`Particles::edit`](crate::Particles::edit) and [`Blades::edit`](crate::Blades::edit).
#[derive(Debug)]
pub struct ColumnsEdit<'a> {
    floats: Vec<(&'static str, &'a mut [f32])>,
    numbers: Vec<(&'static str, &'a mut [u32])>,
    len: usize,
    killed: Vec<u32>,
}

impl<'a> ColumnsEdit<'a> {
    /// Lets a closure change columns, then checks all floats against the range of their column. Returns what the closure returns, and the killed
    /// elements. After an error the columns are as the closure left them.
    pub(crate) fn make<R>(
        floats: Vec<(&'static str, &'a mut [f32])>,
        numbers: Vec<(&'static str, &'a mut [u32])>,
        range: impl Fn(&str) -> [f32; 2],
        change: impl FnOnce(&mut ColumnsEdit<'_>) -> Result<R, SpecError>,
    ) -> Result<(R, Vec<u32>), SpecError> {
        let len = floats.first().map_or(0, |(_, column)| column.len());
        let mut edit = Self { floats, numbers, len, killed: Vec::new() };
        let result = change(&mut edit)?;
        Ok((result, edit.finish(range)?))
    }

    /// Number of elements.
    pub fn len(&self) -> usize {
        self.len
    }

    /// Whether there are no elements.
    pub fn is_empty(&self) -> bool {
        self.len == 0
    }

    /// Names of the columns that can be changed.
    pub fn names(&self) -> impl Iterator<Item = &'static str> + '_ {
        let numbers = self.numbers.iter().map(|(name, _)| *name);
        self.floats.iter().map(|(name, _)| *name).chain(numbers)
    }

    /// Columns by their names, each once.
    ///
    /// # Errors
    /// There is no such column to change, or it is asked for twice; names those that there are.
    pub fn floats<const N: usize>(&mut self, names: [&str; N]) -> Result<[&mut [f32]; N], SpecError> {
        pick(&mut self.floats, names)
    }

    /// Columns of whole numbers by their names, each once.
    ///
    /// # Errors
    /// As [`ColumnsEdit::floats`].
    pub fn numbers<const N: usize>(&mut self, names: [&str; N]) -> Result<[&mut [u32]; N], SpecError> {
        pick(&mut self.numbers, names)
    }

    /// Ends an element, counted from 0: a particle dies in the next step, as if it were of age; a blade is gone. Returns false if there is none.
    pub fn kill(&mut self, nth: usize) -> bool {
        let is_there = nth < self.len;
        if is_there {
            self.killed.push(nth as u32);
        }
        is_there
    }

    /// Checks all floats against the range of their column, and returns the killed elements.
    fn finish(self, range: impl Fn(&str) -> [f32; 2]) -> Result<Vec<u32>, SpecError> {
        for (name, column) in &self.floats {
            let [least, most] = range(name);
            // Written so that it is false for what is no number.
            let fits = |value: &f32| (least..=most).contains(value);
            if let Some(nth) = column.iter().position(|value| !fits(value)) {
                let problem = format!("element {nth} has {}", column[nth]);
                let remedy = format!("keep to {least} to {most}; nothing was changed");
                return Err(SpecError::new(*name, problem, remedy));
            }
        }
        Ok(self.killed)
    }
}

fn pick<'b, T, const N: usize>(
    all: &'b mut [(&'static str, &mut [T])],
    names: [&str; N],
) -> Result<[&'b mut [T]; N], SpecError> {
    let known: Vec<&'static str> = all.iter().map(|(name, _)| *name).collect();
    let mut picked = [const { None }; N];
    for (name, column) in all {
        if let Some(nth) = names.iter().position(|asked| asked == name) {
            picked[nth] = Some(&mut **column);
        }
    }
    if let Some(nth) = picked.iter().position(Option::is_none) {
        let twice = known.contains(&names[nth]);
        let problem = if twice { "is asked for twice" } else { "is no column that can be changed so" };
        return Err(SpecError::new(names[nth], problem, format!("ask once for: {}", listed(known))));
    }
    Ok(picked.map(Option::unwrap_or_default))
}
