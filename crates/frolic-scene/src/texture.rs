//! PNG files as textures: any colour type, sizes checked before anything is decoded.

use std::io::{self, BufReader, Cursor, Read, Seek};
use std::path::Path;

use frolic_draw::Picture;

use crate::error::SceneError;

/// Most pixels a side and in all.
const MOST_SIDE: u32 = 16_384;
const MOST_PIXELS: u64 = 1 << 26;

/// Reads a PNG as straight RGBA of 8 bits a channel: grey, palette and 16-bit ones are converted. At most 16384 pixels a side and 2^26 in all.
///
/// # Errors
/// A file that cannot be read, is no PNG, is cut short, or is too large.
pub fn read_png(path: impl AsRef<Path>) -> Result<Picture, SceneError> {
    let path = path.as_ref();
    let file =
        std::fs::File::open(path).map_err(|source| SceneError::Read { path: path.to_owned(), source })?;
    decode(BufReader::new(file)).map_err(|problem| SceneError::File { path: path.to_owned(), problem })
}

/// The same from bytes in memory; `name` is what errors call it.
///
/// # Errors
/// As [`read_png`].
pub fn read_png_bytes(bytes: &[u8], name: &str) -> Result<Picture, SceneError> {
    decode(Cursor::new(bytes)).map_err(|problem| SceneError::File { path: name.into(), problem })
}

fn decode<R: Read + Seek + io::BufRead>(read: R) -> Result<Picture, String> {
    let problem = |error: png::DecodingError| match error {
        png::DecodingError::IoError(error) if error.kind() == io::ErrorKind::UnexpectedEof => {
            "is cut short; write it again".to_owned()
        }
        png::DecodingError::LimitsExceeded => "needs too much memory; make it smaller".to_owned(),
        error => format!("is not a readable PNG file: {error}"),
    };
    let limits = png::Limits { bytes: MOST_PIXELS as usize * 8 };
    let mut decoder = png::Decoder::new_with_limits(read, limits);
    // Palettes and small greys to 8 bits, transparency to opacity, 16 bits to 8.
    decoder.set_transformations(png::Transformations::EXPAND | png::Transformations::STRIP_16);
    let (w, h) = {
        let header = decoder.read_header_info().map_err(problem)?;
        (header.width, header.height)
    };
    if w == 0 || h == 0 || w > MOST_SIDE || h > MOST_SIDE || u64::from(w) * u64::from(h) > MOST_PIXELS {
        return Err(format!(
            "is {w} x {h} pixels; keep to 1 to {MOST_SIDE} a side and {} million in all",
            MOST_PIXELS >> 20
        ));
    }
    let mut reader = decoder.read_info().map_err(problem)?;
    let size = reader.output_buffer_size().ok_or("is too large")?;
    let mut bytes = vec![0; size];
    let frame = reader.next_frame(&mut bytes).map_err(problem)?;
    let bytes = &bytes[..frame.buffer_size()];
    let pixels: Vec<[u8; 4]> = match frame.color_type {
        png::ColorType::Rgba => bytes.as_chunks::<4>().0.to_vec(),
        png::ColorType::Rgb => bytes.as_chunks::<3>().0.iter().map(|&[r, g, b]| [r, g, b, 255]).collect(),
        png::ColorType::Grayscale => bytes.iter().map(|&v| [v, v, v, 255]).collect(),
        png::ColorType::GrayscaleAlpha => {
            bytes.as_chunks::<2>().0.iter().map(|&[v, a]| [v, v, v, a]).collect()
        }
        png::ColorType::Indexed => return Err("has an unreadable palette".to_owned()),
    };
    Picture::new([w, h], pixels).map_err(|error| error.to_string())
}
