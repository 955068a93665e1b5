//! `frolic scenes`: lists the shipped scenes.

use frolic::scene::{SCHEMA, SHIPPED, SceneSpec};
use serde::Serialize;

use super::{CommandError, Outcome};
use crate::args;
use crate::output::{say, say_json};

#[derive(Debug, Serialize)]
struct Listed {
    name: &'static str,
    about: &'static str,
}

pub(super) fn run(args: &args::Scenes) -> Result<Outcome, CommandError> {
    if let Some(name) = &args.scene {
        if let Some(scene) = SHIPPED.iter().find(|scene| scene.name == name) {
            say(scene.text.trim_end());
        } else {
            // Not shipped: a file is its own text, so only the complaint about an unknown name is of use.
            SceneSpec::find(name)?;
            return Err(CommandError::Usage(format!("'{name}' is a file, not a shipped scene")));
        }
        return Ok(Outcome::Done);
    }
    if args.schema {
        say(SCHEMA.trim_end());
        return Ok(Outcome::Done);
    }
    let list: Vec<Listed> =
        SHIPPED.iter().map(|scene| Listed { name: scene.name, about: scene.about }).collect();
    if args.json {
        say_json(&list);
    } else {
        list.iter().for_each(|scene| say(&format!("{:10} {}", scene.name, scene.about)));
    }
    Ok(Outcome::Done)
}
