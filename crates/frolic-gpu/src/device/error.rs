//! Errors of a device.

/// Why an operation on a device failed.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum GpuError {
    /// There is no adapter.
    #[error(
        "no graphics device was found ({0}); install its driver, or software Vulkan (Debian: apt-get install mesa-vulkan-drivers), or \
         draw on the CPU"
    )]
    NoDevice(String),
    /// The adapter cannot open a suitable device.
    #[error("the graphics device '{name}' cannot be used: {problem}; draw on the CPU")]
    Unfit {
        /// Name of the adapter.
        name: String,
        /// What is missing.
        problem: String,
    },
    /// The device was lost: reset, unplugged, or destroyed.
    #[error("the graphics device was lost: {0}")]
    Lost(String),
    /// The device rejected a command.
    #[error("the graphics device refused a command: {0}")]
    Refused(String),
    /// A resource is larger than the device allows.
    #[error("{what} of {wanted} is over this device's limit of {most}; {instead}")]
    TooLarge {
        /// The resource.
        what: &'static str,
        /// Its size.
        wanted: u64,
        /// The limit.
        most: u64,
        /// What to do instead.
        instead: &'static str,
    },
    /// A shader does not compile.
    #[error("{file}:{line}: {problem}")]
    Shader {
        /// File of the shader.
        file: String,
        /// Line in that file.
        line: usize,
        /// The problem.
        problem: String,
    },
    /// Something that the device cannot draw or step.
    #[error("{0}")]
    Unsupported(String),
}
