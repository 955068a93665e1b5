//! Scenes that are part of the program, so that they work from any folder.

/// A scene that ships.
#[derive(Debug, Clone, Copy)]
#[non_exhaustive]
pub struct Shipped {
    /// What to call it.
    pub name: &'static str,
    /// What it shows.
    pub about: &'static str,
    /// Its scene file.
    pub text: &'static str,
}

/// All that ship.
pub const SHIPPED: &[Shipped] = &[Shipped {
    name: "beacon",
    about: "the signal fire on Tern Holm at last light: embers, flames, smoke, and a log that cracks",
    text: include_str!("../scenes/beacon.toml"),
}];

pub(crate) fn find(name: &str) -> Option<&'static Shipped> {
    SHIPPED.iter().find(|scene| scene.name == name)
}
