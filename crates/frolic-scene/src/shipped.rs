//! Scenes that are part of the program, so that they work from any folder.

/// A shipped scene.
#[derive(Debug, Clone, Copy)]
#[non_exhaustive]
pub struct Shipped {
    /// What to call it.
    pub name: &'static str,
    /// What it shows.
    pub about: &'static str,
    /// Its scene file.
    pub text: &'static str,
    /// Files that it names: name and content.
    pub files: &'static [(&'static str, &'static [u8])],
}

/// All shipped scenes.
pub const SHIPPED: &[Shipped] = &[
    Shipped {
        name: "beacon",
        about: "the signal fire on Tern Holm at last light: embers, flames, smoke, and a log that cracks",
        text: include_str!("../scenes/beacon.toml"),
        files: &[],
    },
    Shipped {
        name: "blowhole",
        about: "the blowhole of Tern Holm in low sun: spray up a rock shaft, a rock that is dug while it runs, buckets that count",
        text: include_str!("../scenes/blowhole.toml"),
        files: &[
            ("textures/rock.png", include_bytes!("../scenes/textures/rock.png")),
            ("textures/rock_behind.png", include_bytes!("../scenes/textures/rock_behind.png")),
        ],
    },
    Shipped {
        name: "dunes",
        about: "marram on the dunes of Tern Holm in the afternoon wind: clumps, gusts, a footpath, two walkers' trodden lines",
        text: include_str!("../scenes/dunes.toml"),
        files: &[],
    },
    Shipped {
        name: "foghorn",
        about: "the foghorn of Tern Holm at night: fans of sound bounce off sea stacks and leave glints, stacks without end",
        text: include_str!("../scenes/foghorn.toml"),
        files: &[],
    },
    Shipped {
        name: "heather",
        about: "a heather bush above the sea: leaves and bells fill a volume and sway; bells drop, spin and drift",
        text: include_str!("../scenes/heather.toml"),
        files: &[
            ("textures/bush.obj", include_bytes!("../scenes/textures/bush.obj")),
            ("textures/petal.png", include_bytes!("../scenes/textures/petal.png")),
        ],
    },
    Shipped {
        name: "machair",
        about: "the machair of Tern Holm on a June morning: a million and a half blades, ears and flowers, most of them from kept pictures",
        text: include_str!("../scenes/machair.toml"),
        files: &[],
    },
    Shipped {
        name: "mussels",
        about: "ten million mussels on the ropes of Tern Holm, under water at noon: from seed to full size, harvested and sown anew",
        text: include_str!("../scenes/mussels.toml"),
        files: &[("textures/rope.obj", include_bytes!("../scenes/textures/rope.obj"))],
    },
    Shipped {
        name: "pennants",
        about: "race morning in the harbour of Tern Holm: thousands of pennants on their lines, boats, a board, a clock",
        text: include_str!("../scenes/pennants.toml"),
        files: &[("textures/paving.png", include_bytes!("../scenes/textures/paving.png"))],
    },
    Shipped {
        name: "shoal",
        about: "sixty thousand sand eels around a lure off Tern Holm, in shafts of light: the school turns as one and parts where a seal hunts",
        text: include_str!("../scenes/shoal.toml"),
        files: &[("textures/shaft.png", include_bytes!("../scenes/textures/shaft.png"))],
    },
];

/// The content of a file of a shipped scene.
pub(crate) fn file(scene: &str, name: &str) -> Option<&'static [u8]> {
    find(scene)?.files.iter().find(|(file, _)| *file == name).map(|(_, content)| *content)
}

pub(crate) fn find(name: &str) -> Option<&'static Shipped> {
    SHIPPED.iter().find(|scene| scene.name == name)
}
