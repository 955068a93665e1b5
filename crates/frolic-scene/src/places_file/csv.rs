//! Points as CSV.

use crate::models::Problem;
use std::io::{self, Write};

use super::rows::{NAMES, Places, Row, columns, floats_of, names, row_of};

pub(super) fn csv_rows(file: &mut dyn Write, places: &Places) -> io::Result<()> {
    let placed = &places.elements;
    let mut writer = csv::Writer::from_writer(file);
    writer.write_record(names(places))?;
    for (nth, row) in (0..placed.len()).filter_map(|nth| Some((nth, placed.row(nth)?))) {
        let whole = [row.kind.to_string(), row.id.to_string()];
        let motion = places.motion(nth).map(|value| value.to_string());
        writer.write_record(floats_of(&row).iter().map(f32::to_string).chain(whole).chain(motion))?;
    }
    writer.flush()
}

pub(super) fn from_csv(bytes: &[u8]) -> Result<Vec<Row>, Problem> {
    let mut reader = csv::Reader::from_reader(bytes);
    let wrong = |error: csv::Error| Problem::Said(format!("is not a readable CSV file: {error}"));
    let columns = columns(reader.headers().map_err(wrong)?.iter())?;
    let mut rows = Vec::new();
    for (nth, record) in reader.records().enumerate() {
        let record = record.map_err(wrong)?;
        let mut values = [None; NAMES.len()];
        for (column, text) in columns.iter().zip(record.iter()) {
            if let Some(column) = *column {
                let value: f64 = text
                    .trim()
                    .parse()
                    .map_err(|_| Problem::Said(format!("row {}: '{text}' is not a number", nth + 1)))?;
                values[column] = Some(value);
            }
        }
        rows.push(row_of(nth, |at| values[at]));
    }
    Ok(rows)
}
