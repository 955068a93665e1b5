//! One description of everything that crosses to the device. A structure is declared once, in Rust: [`shared!`] derives its WGSL text, the
//! offset of each field by the layout rules of WGSL, and the packer. Tags and limits that both sides use are declared once too, by
//! [`constants!`] and [`shared_constants!`]. [`shaders`](crate::shaders) puts the texts before the files that use them.
//!
//! | file | structures |
//! | --- | --- |
//! | `frame.rs` | camera, sun, lights and haze of a frame |
//! | `look.rs` | a look and its batch |
//! | `step.rs` | a step of a population: motion, colliders, fields; emitters and newborns |
//! | `flock.rs` | a step of a flock: cells, rules, targets |
//! | `cells.rs` | a grid of cells |
//! | `apart.rs` | a step of bodies that keep apart |
//! | `event.rs` | events, and the elements that they start others for |
//! | `finish.rs` | bloom, tone curve, sorting |

pub(crate) mod apart;
pub(crate) mod cells;
pub(crate) mod event;
pub(crate) mod finish;
pub(crate) mod flock;
pub(crate) mod frame;
pub(crate) mod look;
pub(crate) mod step;

/// A value with the same layout in WGSL and in the words that Rust uploads.
pub(crate) trait Shared: Copy {
    /// Alignment in words of 32 bits.
    const ALIGN: usize;
    /// Size in words.
    const WORDS: usize;
    /// Name of the type in WGSL.
    fn type_name() -> String;
    /// Writes the value into its words.
    fn put(&self, words: &mut [u32]);
    /// Offset of each field in words; empty for scalars, vectors and arrays.
    #[cfg(test)]
    fn offsets() -> Vec<usize> {
        Vec::new()
    }
}

/// A scalar or vector that can be read from single words, and written to them.
pub(crate) trait Packed: Shared {
    /// A WGSL expression for the value, given one for each of its words.
    fn unpack(words: &[String]) -> String;
    /// WGSL expressions for the words, given one for the value.
    fn pack(value: &str) -> Vec<String>;
}

/// A structure declared by [`shared!`].
pub(crate) trait SharedStruct: Shared {
    /// The declaration in WGSL.
    fn declaration() -> String;

    /// The value as words, for an upload.
    fn words(&self) -> Vec<u32> {
        let mut words = vec![0; Self::WORDS];
        self.put(&mut words);
        words
    }

    /// Appends the value to others.
    fn append(&self, words: &mut Vec<u32>) {
        let at = words.len();
        words.resize(at + Self::WORDS, 0);
        self.put(&mut words[at..]);
    }
}

macro_rules! scalar {
    ($type:ty, $name:literal, $put:expr) => {
        impl Shared for $type {
            const ALIGN: usize = 1;
            const WORDS: usize = 1;

            fn type_name() -> String {
                $name.to_owned()
            }

            fn put(&self, words: &mut [u32]) {
                words[0] = $put(*self);
            }
        }

        impl Packed for $type {
            fn unpack(words: &[String]) -> String {
                format!("bitcast<{}>({})", $name, words[0])
            }

            fn pack(value: &str) -> Vec<String> {
                vec![format!("bitcast<u32>({value})")]
            }
        }
    };
}

scalar!(f32, "f32", f32::to_bits);
scalar!(u32, "u32", |value| value);
scalar!(i32, "i32", i32::cast_unsigned);

macro_rules! vector {
    ($scalar:ty, $count:literal, $align:literal) => {
        impl Shared for [$scalar; $count] {
            const ALIGN: usize = $align;
            const WORDS: usize = $count;

            fn type_name() -> String {
                format!("vec{}<{}>", $count, <$scalar>::type_name())
            }

            fn put(&self, words: &mut [u32]) {
                for (word, value) in words.iter_mut().zip(self) {
                    value.put(std::slice::from_mut(word));
                }
            }
        }

        impl Packed for [$scalar; $count] {
            fn unpack(words: &[String]) -> String {
                let parts: Vec<_> =
                    words.iter().map(|word| <$scalar>::unpack(std::slice::from_ref(word))).collect();
                format!("{}({})", Self::type_name(), parts.join(", "))
            }

            fn pack(value: &str) -> Vec<String> {
                ["x", "y", "z", "w"][..$count]
                    .iter()
                    .flat_map(|part| <$scalar>::pack(&format!("{value}.{part}")))
                    .collect()
            }
        }
    };
}

vector!(f32, 2, 2);
vector!(f32, 3, 4);
vector!(f32, 4, 4);
vector!(u32, 2, 2);
vector!(u32, 3, 4);
vector!(u32, 4, 4);

impl<T: SharedStruct, const N: usize> Shared for [T; N] {
    const ALIGN: usize = T::ALIGN;
    const WORDS: usize = N * T::WORDS;

    fn type_name() -> String {
        format!("array<{}, {N}>", T::type_name())
    }

    fn put(&self, words: &mut [u32]) {
        for (words, value) in words.chunks_exact_mut(T::WORDS).zip(self) {
            value.put(words);
        }
    }
}

/// The declaration of a structure in WGSL, from the docs, name and type of each field.
pub(crate) fn structure(name: &str, fields: &[(&[&str], &str, String)]) -> String {
    let mut text = format!("struct {name} {{\n");
    for (docs, field, type_name) in fields {
        docs.iter().for_each(|doc| text.push_str(&format!("    //{doc}\n")));
        text.push_str(&format!("    {field}: {type_name},\n"));
    }
    text + "}\n"
}

/// Declares structures that Rust fills and WGSL reads. Fields are `f32`, `u32`, `[f32; 2]` to `[f32; 4]` (vectors), `[u32; 4]`, other
/// structures, and arrays of structures. Field docs become WGSL comments.
macro_rules! shared {
    ($($(#[doc = $doc:literal])* struct $name:ident {
        $($(#[doc = $about:literal])* $field:ident: $type:ty,)*
    })*) => {$(
        $(#[doc = $doc])*
        #[derive(Debug, Clone, Copy, PartialEq)]
        pub(crate) struct $name { $($(#[doc = $about])* pub(crate) $field: $type,)* }

        impl $crate::shared::Shared for $name {
            const ALIGN: usize = {
                let mut most = 1;
                $(if <$type as $crate::shared::Shared>::ALIGN > most {
                    most = <$type as $crate::shared::Shared>::ALIGN;
                })*
                most
            };
            const WORDS: usize = {
                let mut at = 0usize;
                $(at = at.next_multiple_of(<$type as $crate::shared::Shared>::ALIGN);
                at += <$type as $crate::shared::Shared>::WORDS;)*
                at.next_multiple_of(Self::ALIGN)
            };

            fn type_name() -> String {
                stringify!($name).to_owned()
            }

            fn put(&self, words: &mut [u32]) {
                let mut at = 0usize;
                $(at = at.next_multiple_of(<$type as $crate::shared::Shared>::ALIGN);
                $crate::shared::Shared::put(&self.$field, &mut words[at..at + <$type as $crate::shared::Shared>::WORDS]);
                at += <$type as $crate::shared::Shared>::WORDS;)*
                let _ = at;
            }

            #[cfg(test)]
            fn offsets() -> Vec<usize> {
                let mut at = 0usize;
                let mut all = Vec::new();
                $(at = at.next_multiple_of(<$type as $crate::shared::Shared>::ALIGN);
                all.push(at);
                at += <$type as $crate::shared::Shared>::WORDS;)*
                let _ = at;
                all
            }
        }

        impl $crate::shared::SharedStruct for $name {
            fn declaration() -> String {
                $crate::shared::structure(stringify!($name), &[$((
                    &[$($about),*],
                    stringify!($field),
                    <$type as $crate::shared::Shared>::type_name(),
                ),)*])
            }
        }
    )*};
}
pub(crate) use shared;

/// Declares records that are stored without padding in buffers of words. `NAME::reader` and `NAME::writer` are WGSL functions for a buffer.
macro_rules! records {
    ($($(#[doc = $doc:literal])* struct $name:ident {
        $($(#[doc = $about:literal])* $field:ident: $type:ty,)*
    })*) => {$(
        $(#[doc = $doc])*
        #[derive(Debug, Clone, Copy, PartialEq)]
        pub(crate) struct $name { $($(#[doc = $about])* pub(crate) $field: $type,)* }

        #[allow(dead_code, reason = "some records are written or read on the device alone")]
        impl $name {
            /// Size in words.
            pub(crate) const WORDS: usize = 0 $(+ <$type as $crate::shared::Shared>::WORDS)*;

            /// Writes the record into its words.
            pub(crate) fn put(&self, words: &mut [u32]) {
                let mut at = 0;
                $($crate::shared::Shared::put(&self.$field, &mut words[at..at + <$type as $crate::shared::Shared>::WORDS]);
                at += <$type as $crate::shared::Shared>::WORDS;)*
                let _ = at;
            }

            /// The declaration in WGSL.
            pub(crate) fn declaration() -> String {
                $crate::shared::structure(stringify!($name), &[$((
                    &[$($about),*],
                    stringify!($field),
                    <$type as $crate::shared::Shared>::type_name(),
                ),)*])
            }

            /// A WGSL function that reads the record at an index of `buffer`, whose items are so many words.
            pub(crate) fn reader(function: &str, buffer: &str, item: usize) -> String {
                let words = $crate::shared::words_of(buffer, item, Self::WORDS);
                let mut at = 0;
                let mut parts = Vec::new();
                $(let end = at + <$type as $crate::shared::Shared>::WORDS;
                parts.push(<$type as $crate::shared::Packed>::unpack(&words[at..end]));
                at = end;)*
                let _ = at;
                let name = stringify!($name);
                format!("fn {function}(at: u32) -> {name} {{\n    return {name}({});\n}}\n", parts.join(", "))
            }

            /// A WGSL function that writes the record to an index of `buffer`.
            pub(crate) fn writer(function: &str, buffer: &str) -> String {
                let mut parts = Vec::new();
                $(parts.extend(<$type as $crate::shared::Packed>::pack(concat!("value.", stringify!($field))));)*
                let lines: String = $crate::shared::words_of(buffer, 1, Self::WORDS)
                    .iter()
                    .zip(parts)
                    .map(|(word, part)| format!("    {word} = {part};\n"))
                    .collect();
                format!("fn {function}(at: u32, value: {}) {{\n{lines}}}\n", stringify!($name))
            }
        }
    )*};
}
pub(crate) use records;

/// WGSL expressions for the words of a record from the index `at` of a buffer on, whose items are scalars or vectors of so many words.
pub(crate) fn words_of(buffer: &str, item: usize, count: usize) -> Vec<String> {
    let word = |nth: usize| match item {
        1 => format!("{buffer}[at + {nth}u]"),
        _ => format!("{buffer}[at + {}u].{}", nth / item, ["x", "y", "z", "w"][nth % item]),
    };
    (0..count).map(word).collect()
}

/// A value that can be written as a WGSL constant.
pub(crate) trait Literal {
    /// Type and value in WGSL.
    fn literal(&self) -> [String; 2];
}

impl Literal for u32 {
    fn literal(&self) -> [String; 2] {
        ["u32".to_owned(), format!("{self}u")]
    }
}

impl Literal for i32 {
    fn literal(&self) -> [String; 2] {
        ["i32".to_owned(), self.to_string()]
    }
}

impl Literal for f32 {
    fn literal(&self) -> [String; 2] {
        ["f32".to_owned(), format!("{self:?}")]
    }
}

impl Literal for [f32; 2] {
    fn literal(&self) -> [String; 2] {
        ["vec2<f32>".to_owned(), format!("vec2({:?}, {:?})", self[0], self[1])]
    }
}

impl<T: Literal> Literal for &[T] {
    fn literal(&self) -> [String; 2] {
        let items: Vec<_> = self.iter().map(Literal::literal).collect();
        let of = items.first().map_or_else(String::new, |[of, _]| of.clone());
        let values = items.iter().map(|[_, value]| value.as_str()).collect::<Vec<_>>().join(", ");
        [format!("array<{of}, {}>", items.len()), format!("array({values})")]
    }
}

/// The declaration of a WGSL constant.
pub(crate) fn constant(name: &str, value: &impl Literal) -> String {
    let [of, value] = value.literal();
    format!("const {name}: {of} = {value};\n")
}

/// WGSL declarations of constants that Rust has by the same names.
macro_rules! listed {
    ($($name:ident),* $(,)?) => {
        [$($crate::shared::constant(stringify!($name), &$name)),*].concat()
    };
}
pub(crate) use listed;

/// Declares numbers that both sides use: constants in Rust, and a function with their declarations in WGSL.
macro_rules! constants {
    ($(#[doc = $about:literal])* $all:ident { $($(#[doc = $doc:literal])* $name:ident: $type:ty = $value:expr,)* }) => {
        $($(#[doc = $doc])* #[allow(dead_code, reason = "some are used by shaders alone")]
        pub(crate) const $name: $type = $value;)*

        $(#[doc = $about])*
        pub(crate) fn $all() -> String {
            $crate::shared::listed!($($name),*)
        }
    };
}
pub(crate) use constants;

/// 1 or 0.
pub(crate) fn flag(on: bool) -> u32 {
    u32::from(on)
}
