//! Writing files so that none is ever half there: beside the target first, then renamed.

use std::fs;
use std::io::{self, BufWriter, Write};
use std::path::Path;

use frolic_draw::Image;

use crate::error::SceneError;

/// Writes a file by way of `<name>.part` in the same folder, made if missing. On any failure the target is as before.
///
/// # Errors
/// When the folder cannot be made, or the file not be written or renamed.
pub fn write_beside(
    path: impl AsRef<Path>,
    fill: impl FnOnce(&mut dyn Write) -> io::Result<()>,
) -> Result<(), SceneError> {
    let path = path.as_ref();
    let mut name = path.file_name().unwrap_or_default().to_owned();
    name.push(".part");
    let part = path.with_file_name(name);
    let attempt = || -> io::Result<()> {
        if path.is_dir() {
            return Err(io::Error::new(io::ErrorKind::IsADirectory, "is a folder; name a file in it"));
        }
        if let Some(folder) = path.parent().filter(|folder| !folder.as_os_str().is_empty()) {
            fs::create_dir_all(folder)?;
        }
        let mut file = BufWriter::new(fs::File::create(&part)?);
        fill(&mut file)?;
        file.into_inner().map_err(io::IntoInnerError::into_error)?.sync_data()?;
        fs::rename(&part, path)
    };
    attempt().map_err(|source| {
        // Best effort: the error to report is the first one.
        let _ = fs::remove_file(&part);
        SceneError::Write { path: path.to_owned(), source }
    })
}

/// Writes a picture as PNG: 8-bit RGBA, marked as sRGB.
///
/// # Errors
/// As [`write_beside`].
pub fn write_png(path: impl AsRef<Path>, image: &Image) -> Result<(), SceneError> {
    write_beside(path, |file| {
        let size = image.size();
        let mut encoder = png::Encoder::new(file, size.width() as u32, size.height() as u32);
        encoder.set_color(png::ColorType::Rgba);
        encoder.set_depth(png::BitDepth::Eight);
        encoder.set_source_srgb(png::SrgbRenderingIntent::Perceptual);
        encoder.set_compression(png::Compression::Fast);
        let mut writer = encoder.write_header()?;
        writer.write_image_data(image.bytes())?;
        writer.finish()?;
        Ok(())
    })
}
