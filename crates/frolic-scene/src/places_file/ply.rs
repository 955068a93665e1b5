//! Points as PLY.

use crate::models::Problem;
use std::io::{self, BufRead, Write};

use super::rows::{Number, Places, Row, columns, floats_of, names, row_of};

pub(super) fn ply(file: &mut dyn Write, places: &Places) -> io::Result<()> {
    let placed = &places.elements;
    writeln!(
        file,
        "ply\nformat binary_little_endian 1.0\ncomment places: metres, seconds, radians\nelement vertex {}",
        placed.len()
    )?;
    for name in names(places) {
        writeln!(file, "property {} {name}", if ["kind", "id"].contains(&name) { "uint" } else { "float" })?;
    }
    writeln!(file, "end_header")?;
    for (nth, row) in (0..placed.len()).filter_map(|nth| Some((nth, placed.row(nth)?))) {
        for value in floats_of(&row) {
            file.write_all(&value.to_le_bytes())?;
        }
        file.write_all(&row.kind.to_le_bytes())?;
        file.write_all(&row.id.to_le_bytes())?;
        for value in places.motion(nth) {
            file.write_all(&value.to_le_bytes())?;
        }
    }
    Ok(())
}

pub(super) fn from_ply(bytes: &[u8]) -> Result<Vec<Row>, Problem> {
    let said = |text: &str| Problem::Said(text.to_owned());
    let mut at = 0;
    let mut line = || -> Option<String> {
        let mut line = Vec::new();
        let read = (&bytes[at..]).read_until(b'\n', &mut line).ok().filter(|read| *read > 0)?;
        at += read;
        Some(String::from_utf8_lossy(&line).trim().to_owned())
    };
    if line().as_deref() != Some("ply") {
        return Err(said("is no PLY"));
    }
    let (mut format, mut count, mut properties) = (String::new(), None, Vec::new());
    loop {
        let Some(line) = line() else { return Err(said("is cut short in its header")) };
        let words: Vec<&str> = line.split_whitespace().collect();
        match words[..] {
            ["end_header"] => break,
            ["format", name, _] => name.clone_into(&mut format),
            ["element", "vertex", many] if count.is_none() => {
                count = Some(many.parse::<usize>().map_err(|_| said("has no vertex count in its header"))?);
            }
            ["element", _, many] if count.is_none() && many != "0" => {
                return Err(said("has other elements before its vertices; write these first"));
            }
            // What comes after the vertices is left.
            ["element", ..] => format.push(' '),
            ["property", kind, name] if count.is_some() && !format.ends_with(' ') => {
                let number = Number::named(kind);
                let problem = || format!("has a property '{name}' of an unknown type '{kind}'");
                properties.push((number.ok_or_else(|| Problem::Said(problem()))?, name.to_owned()));
            }
            ["property", "list", ..] if !format.ends_with(' ') => {
                return Err(said("has lists in its vertices"));
            }
            _ => {}
        }
    }
    let count = count.ok_or_else(|| said("has no vertices"))?;
    let columns = columns(properties.iter().map(|(_, name)| name.as_str()))?;
    let body = &bytes[at..];
    let each: usize = properties.iter().map(|(number, _)| number.bytes()).sum();
    let mut rows = Vec::new();
    let mut push = |numbers: &[f64]| {
        let of = |at: usize| columns.iter().position(|column| *column == Some(at)).map(|nth| numbers[nth]);
        rows.push(row_of(rows.len(), of));
    };
    match format.trim() {
        "ascii" => {
            let text = String::from_utf8_lossy(body);
            let mut lines = text.lines().filter(|line| !line.trim().is_empty());
            for nth in 0..count {
                let line = lines.next().ok_or_else(|| said("is cut short"))?;
                let numbers: Option<Vec<f64>> =
                    line.split_whitespace().map(|word| word.parse().ok()).collect();
                let numbers = numbers.filter(|numbers| numbers.len() >= properties.len());
                push(&numbers.ok_or_else(|| Problem::Said(format!("vertex {nth} is not numeric")))?);
            }
        }
        format @ ("binary_little_endian" | "binary_big_endian") => {
            if body.len() / each.max(1) < count {
                return Err(said("is cut short"));
            }
            let mut numbers = vec![0.0; properties.len()];
            for vertex in body.chunks_exact(each).take(count) {
                let mut from = 0;
                for (value, (number, _)) in numbers.iter_mut().zip(&properties) {
                    *value = number.read(&vertex[from..from + number.bytes()], format.contains("little"));
                    from += number.bytes();
                }
                push(&numbers);
            }
        }
        other => return Err(Problem::Said(format!("is of an unknown format '{other}'"))),
    }
    Ok(rows)
}
