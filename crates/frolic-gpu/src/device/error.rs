//! What can go wrong with a device.

/// Why something could not be done on a device.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum GpuError {
    /// There is no adapter.
    #[error(
        "no graphics device was found ({0}); install its driver, or software Vulkan (Debian: apt-get install mesa-vulkan-drivers), or \
         draw on the CPU"
    )]
    NoDevice(String),
    /// The adapter gives no device as it is needed.
    #[error("the graphics device '{name}' cannot be used: {problem}; draw on the CPU")]
    Unfit {
        /// Which adapter.
        name: String,
        /// What it lacks.
        problem: String,
    },
    /// The device is gone: reset, unplugged, or destroyed.
    #[error("the graphics device was lost: {0}")]
    Lost(String),
    /// The device refused something.
    #[error("the graphics device refused a command: {0}")]
    Refused(String),
    /// Larger than the device can hold.
    #[error("{what} of {wanted} is over this device's limit of {most}; {instead}")]
    TooLarge {
        /// What.
        what: &'static str,
        /// How large.
        wanted: u64,
        /// What there may be.
        most: u64,
        /// What to do instead.
        instead: &'static str,
    },
    /// A shader that does not compile.
    #[error("{file}:{line}: {problem}")]
    Shader {
        /// Which file.
        file: String,
        /// Which line of it.
        line: usize,
        /// What is wrong.
        problem: String,
    },
    /// Something that is not drawn or stepped on a device.
    #[error("{0}")]
    Unsupported(String),
}
