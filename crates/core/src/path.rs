//! Paths inside a storage, as bytes, never out of it.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Deserializer, Serialize, Serializer};

/// A path below the root of a storage: no `.`, no `..`, no empty part, no NUL, not absolute.
///
/// File names are bytes and need not be UTF-8. As text (in JSON and in the database) every byte
/// that is not part of valid UTF-8, and the percent sign itself, stands as `%XX`.
#[derive(Clone, PartialEq, Eq, Hash, PartialOrd, Ord, Default)]
pub struct StoragePath(Vec<u8>);

/// Why a text is no path inside a storage.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum PathError {
    /// The path begins at the root of the machine.
    #[error("“{0}” begins with a slash: paths are given from the root of their storage")]
    Absolute(String),
    /// A part would leave the storage or names nothing.
    #[error("“{path}” has the part “{part}”, which is not allowed in a storage")]
    Part {
        /// The whole path.
        path: String,
        /// The part that is refused.
        part: String,
    },
    /// A percent sign that does not stand for a byte.
    #[error("“{0}” has a % that is not followed by two hexadecimal figures (write %25 for a percent sign)")]
    Escape(String),
    /// A path or part that no file system holds.
    #[error("“{0}” is too long: a name may have 255 bytes, a path 4096")]
    TooLong(String),
}

const LONGEST_NAME: usize = 255;
const LONGEST_PATH: usize = 4096;

impl StoragePath {
    /// The root of the storage itself.
    #[must_use]
    pub fn root() -> Self {
        Self::default()
    }

    /// The path with these raw bytes.
    ///
    /// # Errors
    /// [`PathError`] where it would leave the storage or can be no path.
    pub fn from_bytes(bytes: &[u8]) -> Result<Self, PathError> {
        let shown = || String::from_utf8_lossy(bytes).into_owned();
        if bytes.is_empty() {
            return Ok(Self::root());
        }
        if bytes.first() == Some(&b'/') {
            return Err(PathError::Absolute(shown()));
        }
        if bytes.len() > LONGEST_PATH {
            return Err(PathError::TooLong(shown()));
        }
        for part in bytes.split(|byte| *byte == b'/') {
            if part.len() > LONGEST_NAME {
                return Err(PathError::TooLong(shown()));
            }
            if part.is_empty() || part == b"." || part == b".." || part.contains(&0) {
                return Err(PathError::Part { path: shown(), part: String::from_utf8_lossy(part).into_owned() });
            }
        }
        Ok(Self(bytes.to_vec()))
    }

    /// The raw bytes, as the file system has them.
    #[must_use]
    pub fn as_bytes(&self) -> &[u8] {
        &self.0
    }

    /// Whether this is the root of the storage.
    #[must_use]
    pub fn is_root(&self) -> bool {
        self.0.is_empty()
    }

    /// The folder that holds it; the root is its own parent.
    #[must_use]
    pub fn parent(&self) -> Self {
        match self.0.iter().rposition(|byte| *byte == b'/') {
            Some(slash) => Self(self.0[..slash].to_vec()),
            None => Self::root(),
        }
    }

    /// The last part, as raw bytes.
    #[must_use]
    pub fn name_bytes(&self) -> &[u8] {
        let start = self.0.iter().rposition(|byte| *byte == b'/').map_or(0, |slash| slash + 1);
        &self.0[start..]
    }

    /// The last part, for people.
    #[must_use]
    pub fn name(&self) -> String {
        String::from_utf8_lossy(self.name_bytes()).into_owned()
    }

    /// The last part without its extension, for people.
    #[must_use]
    pub fn stem(&self) -> String {
        let name = self.name();
        match name.rfind('.') {
            Some(dot) if dot > 0 => name[..dot].to_owned(),
            _ => name,
        }
    }

    /// The extension in lower case, or nothing.
    #[must_use]
    pub fn extension(&self) -> String {
        let name = self.name();
        match name.rfind('.') {
            Some(dot) if dot > 0 => name[dot + 1..].to_lowercase(),
            _ => String::new(),
        }
    }

    /// The path of `name` in this folder.
    ///
    /// # Errors
    /// [`PathError`] where `name` is no path.
    pub fn join(&self, name: &[u8]) -> Result<Self, PathError> {
        if self.is_root() {
            return Self::from_bytes(name);
        }
        let mut bytes = self.0.clone();
        bytes.push(b'/');
        bytes.extend_from_slice(name);
        Self::from_bytes(&bytes)
    }

    /// Whether it lies in `folder` or below it, or is it.
    #[must_use]
    pub fn is_within(&self, folder: &Self) -> bool {
        folder.is_root() || self == folder || (self.0.starts_with(&folder.0) && self.0.get(folder.0.len()) == Some(&b'/'))
    }

    /// The part of it below `folder`, where it lies there.
    #[must_use]
    pub fn below(&self, folder: &Self) -> Option<Self> {
        match (self.is_within(folder), folder.is_root()) {
            (false, _) => None,
            (true, true) => Some(self.clone()),
            (true, false) => Some(Self(self.0.get(folder.0.len() + 1..).unwrap_or_default().to_vec())),
        }
    }
}

impl fmt::Display for StoragePath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for chunk in self.0.utf8_chunks() {
            f.write_str(&chunk.valid().replace('%', "%25"))?;
            for byte in chunk.invalid() {
                write!(f, "%{byte:02X}")?;
            }
        }
        Ok(())
    }
}

impl fmt::Debug for StoragePath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "“{self}”")
    }
}

impl FromStr for StoragePath {
    type Err = PathError;

    fn from_str(text: &str) -> Result<Self, PathError> {
        let mut bytes = Vec::with_capacity(text.len());
        let mut rest = text.as_bytes();
        while let Some((first, tail)) = rest.split_first() {
            if *first != b'%' {
                bytes.push(*first);
                rest = tail;
                continue;
            }
            let figures = tail.get(..2).and_then(|two| std::str::from_utf8(two).ok());
            let byte = figures.and_then(|figures| u8::from_str_radix(figures, 16).ok());
            bytes.push(byte.ok_or_else(|| PathError::Escape(text.to_owned()))?);
            rest = &tail[2..];
        }
        Self::from_bytes(&bytes)
    }
}

impl Serialize for StoragePath {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for StoragePath {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        String::deserialize(deserializer)?.parse().map_err(serde::de::Error::custom)
    }
}

impl utoipa::PartialSchema for StoragePath {
    fn schema() -> utoipa::openapi::RefOr<utoipa::openapi::schema::Schema> {
        utoipa::openapi::schema::ObjectBuilder::new()
            .schema_type(utoipa::openapi::schema::Type::String)
            .description(Some("A path from the root of a storage. Bytes that are not UTF-8, and the percent sign, stand as %XX"))
            .examples(["kiln-year/kiln-07_firing_cam-a.mov"])
            .into()
    }
}

impl utoipa::ToSchema for StoragePath {}
