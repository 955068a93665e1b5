//! Writing files so that none is ever half there: beside the target first, then renamed.

use std::fs;
use std::io::{self, BufWriter, Write};
use std::path::Path;

use frolic_draw::{Image, ImageSize};
use serde::{Deserialize, Serialize};

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
        let mut writer = encoder(file, image.size()).write_header()?;
        writer.write_image_data(image.bytes())?;
        writer.finish()?;
        Ok(())
    })
}

fn encoder<W: Write>(file: W, size: ImageSize) -> png::Encoder<'static, W> {
    let mut encoder = png::Encoder::new(file, size.width() as u32, size.height() as u32);
    encoder.set_color(png::ColorType::Rgba);
    encoder.set_depth(png::BitDepth::Eight);
    encoder.set_source_srgb(png::SrgbRenderingIntent::Perceptual);
    encoder.set_compression(png::Compression::Fast);
    encoder
}

/// Writes pictures of one size as one animated PNG that plays for ever, `rate` frames a second. A viewer that knows no animation shows the
/// first.
///
/// # Errors
/// As [`write_beside`]; no frame at all.
pub fn write_animated_png(path: impl AsRef<Path>, frames: &[Image], rate: f32) -> Result<(), SceneError> {
    let path = path.as_ref();
    let Some(first) = frames.first() else {
        let source = io::Error::new(io::ErrorKind::InvalidInput, "there are no frames");
        return Err(SceneError::Write { path: path.to_owned(), source });
    };
    write_beside(path, |file| {
        let mut encoder = encoder(file, first.size());
        encoder.set_animated(frames.len() as u32, 0)?;
        let (over, under) = delay(rate);
        encoder.set_frame_delay(over, under)?;
        let mut writer = encoder.write_header()?;
        for frame in frames {
            writer.write_image_data(frame.bytes())?;
        }
        writer.finish()?;
        Ok(())
    })
}

/// Seconds a frame as a fraction of whole numbers.
fn delay(rate: f32) -> (u16, u16) {
    if rate.fract() == 0.0 && rate >= 1.0 && rate <= f32::from(u16::MAX) {
        return (1, rate as u16);
    }
    (((1000.0 / rate.max(0.02)).round()).min(65_535.0) as u16, 1000)
}

/// Raw video for a pipe: YUV4MPEG2, 4:4:4, 8 bits, BT.709 in its limited range.
pub struct VideoWriter<W: Write> {
    encoder: y4m::Encoder<W>,
    planes: [Vec<u8>; 3],
}

impl<W: Write> std::fmt::Debug for VideoWriter<W> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("VideoWriter")
    }
}

impl<W: Write> VideoWriter<W> {
    /// Writes the header: pictures of one size, `rate` a second.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn new(into: W, size: ImageSize, rate: f32) -> io::Result<Self> {
        let (under, over) = delay(rate);
        let ratio = y4m::Ratio::new(usize::from(over), usize::from(under));
        let encoder = y4m::encode(size.width(), size.height(), ratio)
            .with_colorspace(y4m::Colorspace::C444)
            .append_vendor_extension(
                y4m::VendorExtensionString::new(b"COLORRANGE=LIMITED".to_vec()).map_err(other)?,
            )
            .write_header(into)
            .map_err(other)?;
        let plane = || vec![0; size.width() * size.height()];
        Ok(Self { encoder, planes: [plane(), plane(), plane()] })
    }

    /// Writes one picture.
    ///
    /// # Errors
    /// When it cannot be written: the reader has gone, say.
    pub fn write(&mut self, image: &Image) -> io::Result<()> {
        let [luma, blue, red] = &mut self.planes;
        for (at, [r, g, b, _]) in image.pixels().iter().enumerate().take(luma.len()) {
            let [r, g, b] = [r, g, b].map(|byte| f32::from(*byte) / 255.0);
            // ITU-R BT.709 (2015), items 3.2 and 3.3.
            let y = 0.2126 * r + 0.7152 * g + 0.0722 * b;
            luma[at] = (16.0 + 219.0 * y + 0.5) as u8;
            blue[at] = (128.0 + 224.0 * (b - y) / 1.8556 + 0.5) as u8;
            red[at] = (128.0 + 224.0 * (r - y) / 1.5748 + 0.5) as u8;
        }
        let [luma, blue, red] = &self.planes;
        self.encoder.write_frame(&y4m::Frame::new([luma, blue, red], None)).map_err(other)
    }
}

fn other(error: y4m::Error) -> io::Error {
    match error {
        y4m::Error::IoError(error) => error,
        error => io::Error::other(format!("{error:?}")),
    }
}

/// The timing of a flipbook sheet, as its file says: `docs/sheet-format.md`.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
#[non_exhaustive]
pub struct SheetTiming {
    /// Version of this format: 1.
    pub frolic_sheet: u32,
    /// Name of the picture, beside this file.
    pub picture: String,
    /// Frames across and down; they follow one another row after row.
    pub frames: [u32; 2],
    /// Size of a frame, in pixels.
    pub frame_size: [u32; 2],
    /// Frames a second.
    pub rate: f32,
    /// The scene's time of the first frame, in seconds.
    pub from: f32,
}

/// Lays frames of one size out on a sheet, `across` by `down`, and writes it as PNG with its timing beside it, the name's ending `.toml`.
/// Places without a frame stay empty.
///
/// # Errors
/// As [`write_beside`]; a sheet that would be larger than a picture can be.
pub fn write_sheet(
    path: impl AsRef<Path>,
    frames: &[Image],
    [across, down]: [u32; 2],
    rate: f32,
    from: f32,
) -> Result<SheetTiming, SceneError> {
    let path = path.as_ref();
    let refused = |problem: String| {
        let source = io::Error::new(io::ErrorKind::InvalidInput, problem);
        SceneError::Write { path: path.to_owned(), source }
    };
    let first = frames.first().ok_or_else(|| refused("there are no frames".to_owned()))?.size();
    let (w, h) = (first.width(), first.height());
    let size =
        ImageSize::new(w as u32 * across, h as u32 * down).map_err(|error| refused(error.to_string()))?;
    let mut sheet = Image::transparent(size);
    for (nth, frame) in frames.iter().enumerate().take((across * down) as usize) {
        sheet.put(frame, nth % across as usize * w, nth / across as usize * h);
    }
    write_png(path, &sheet)?;
    let timing = SheetTiming {
        frolic_sheet: 1,
        picture: path.file_name().unwrap_or_default().to_string_lossy().into_owned(),
        frames: [across, down],
        frame_size: [w as u32, h as u32],
        rate,
        from,
    };
    let text = toml::to_string(&timing).unwrap_or_default();
    write_beside(path.with_extension("toml"), |file| file.write_all(text.as_bytes()))?;
    Ok(timing)
}
