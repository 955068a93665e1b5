//! Finished images.

use std::fmt;
use std::str::FromStr;

use frolic_core::SpecError;
use serde::{Deserialize, Serialize};

/// Width and height in pixels, 1 to 16384 each.
///
/// ```
/// use frolic_draw::ImageSize;
/// let size: ImageSize = "1280x800".parse()?;
/// assert_eq!((size.width(), size.height()), (1280, 800));
/// assert!("1280".parse::<ImageSize>().is_err());
/// # Ok::<(), frolic_core::SpecError>(())
/// ```
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(try_from = "[u32; 2]", into = "[u32; 2]")]
pub struct ImageSize {
    width: u32,
    height: u32,
}

/// Largest side in pixels.
const MOST: u32 = 16_384;

impl ImageSize {
    /// A size.
    ///
    /// # Errors
    /// When a side is 0 or over 16384.
    pub fn new(width: u32, height: u32) -> Result<Self, SpecError> {
        if [width, height].iter().all(|side| (1..=MOST).contains(side)) {
            return Ok(Self { width, height });
        }
        let problem = format!("{width}x{height} is not a picture size");
        Err(SpecError::new("size", problem, format!("write sides of 1 to {MOST} pixels")))
    }

    /// Width in pixels.
    pub fn width(self) -> usize {
        self.width as usize
    }

    /// Height in pixels.
    pub fn height(self) -> usize {
        self.height as usize
    }

    /// Width and height in pixels.
    pub(crate) fn sides(self) -> [usize; 2] {
        [self.width(), self.height()]
    }
}

impl Default for ImageSize {
    fn default() -> Self {
        Self { width: 1280, height: 800 }
    }
}

impl fmt::Display for ImageSize {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}x{}", self.width, self.height)
    }
}

impl FromStr for ImageSize {
    type Err = SpecError;

    fn from_str(text: &str) -> Result<Self, SpecError> {
        let sides = text.split_once('x').and_then(|(w, h)| Some((w.parse().ok()?, h.parse().ok()?)));
        let (width, height) = sides.ok_or_else(|| {
            SpecError::new("size", format!("'{text}' is not a size"), "write WxH, such as 1280x800")
        })?;
        Self::new(width, height)
    }
}

impl TryFrom<[u32; 2]> for ImageSize {
    type Error = SpecError;

    fn try_from([width, height]: [u32; 2]) -> Result<Self, SpecError> {
        Self::new(width, height)
    }
}

impl From<ImageSize> for [u32; 2] {
    fn from(size: ImageSize) -> Self {
        [size.width, size.height]
    }
}

/// An image: RGBA, 8 bits a channel, sRGB, rows from the top.
#[derive(Clone, PartialEq, Eq)]
pub struct Image {
    size: ImageSize,
    pixels: Vec<[u8; 4]>,
}

impl Image {
    /// An opaque black image.
    pub fn new(size: ImageSize) -> Self {
        Self { size, pixels: vec![[0, 0, 0, 255]; size.width() * size.height()] }
    }

    /// A fully transparent image.
    pub fn transparent(size: ImageSize) -> Self {
        Self { size, pixels: vec![[0; 4]; size.width() * size.height()] }
    }

    /// An image of bytes, four a pixel: red, green, blue and straight opacity, rows from the top.
    ///
    /// ```
    /// use frolic_draw::{Image, ImageSize};
    /// let image = Image::from_rgba(ImageSize::new(2, 1)?, &[255, 0, 0, 255, 0, 0, 255, 128])?;
    /// assert_eq!(image.pixels()[1], [0, 0, 255, 128]);
    /// # Ok::<(), frolic_core::SpecError>(())
    /// ```
    ///
    /// # Errors
    /// There are more or fewer bytes than four a pixel.
    pub fn from_rgba(size: ImageSize, bytes: &[u8]) -> Result<Self, SpecError> {
        let wanted = size.width() * size.height() * 4;
        if bytes.len() != wanted {
            let problem = format!("{} bytes for a picture of {size}", bytes.len());
            return Err(SpecError::new("bytes", problem, format!("give {wanted}")));
        }
        Ok(Self { size, pixels: bytes.as_chunks().0.to_vec() })
    }

    /// Size of the image.
    pub fn size(&self) -> ImageSize {
        self.size
    }

    /// Copies another image to a position in pixels from the left and the top, clipped to this image.
    pub fn put(&mut self, other: &Self, x: usize, y: usize) {
        let (w, h) = (self.size.width(), self.size.height());
        let wide = other.size.width().min(w.saturating_sub(x));
        for (j, row) in other.pixels.chunks(other.size.width()).enumerate().take(h.saturating_sub(y)) {
            let at = (y + j) * w + x;
            if wide > 0 {
                self.pixels[at..at + wide].copy_from_slice(&row[..wide]);
            }
        }
    }

    /// All pixels, row by row.
    pub fn pixels(&self) -> &[[u8; 4]] {
        &self.pixels
    }

    /// Sets every pixel by a function of its position; straight RGBA.
    pub fn paint(&mut self, mut pixel: impl FnMut(u32, u32) -> [u8; 4]) {
        let width = self.size.width();
        for (at, into) in self.pixels.iter_mut().enumerate() {
            *into = pixel((at % width) as u32, (at / width) as u32);
        }
    }

    /// All pixels, straight RGBA, rows from the top.
    pub fn pixels_mut(&mut self) -> &mut [[u8; 4]] {
        &mut self.pixels
    }

    /// All bytes, for a PNG encoder or a window.
    pub fn bytes(&self) -> &[u8] {
        self.pixels.as_flattened()
    }
}

impl fmt::Debug for Image {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Image({})", self.size)
    }
}
