//! Codecs by their declarations: each is told from others, written and offered by its word.

use utoipa::openapi::RefOr;
use utoipa::openapi::schema::{ObjectBuilder, Schema, SchemaType, Type};

/// Makes a type of references to declarations: told apart by their ids, written as these, and the values of a setting.
macro_rules! declared {
    ($codec:ident, $declaration:ident, $what:literal, $description:literal) => {
        impl std::ops::Deref for $codec {
            type Target = $declaration;
            fn deref(&self) -> &$declaration {
                self.0
            }
        }

        impl std::fmt::Debug for $codec {
            fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.write_str(self.id)
            }
        }

        impl PartialEq for $codec {
            fn eq(&self, other: &Self) -> bool {
                self.id == other.id
            }
        }

        impl Eq for $codec {}

        impl $codec {
            /// By its word in documents.
            #[must_use]
            pub fn named(id: &str) -> Option<Self> {
                Self::all().into_iter().find(|codec| codec.id == id)
            }
        }

        impl serde::Serialize for $codec {
            fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
                serializer.serialize_str(self.id)
            }
        }

        impl<'de> serde::Deserialize<'de> for $codec {
            fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
                let id = String::deserialize(deserializer)?;
                let unknown = || $crate::formats::declared::unknown(&id, $what, Self::all().iter().map(|codec| codec.id));
                Self::named(&id).ok_or_else(unknown)
            }
        }

        impl utoipa::PartialSchema for $codec {
            fn schema() -> utoipa::openapi::RefOr<utoipa::openapi::schema::Schema> {
                $crate::formats::declared::words_of($description, Self::all().iter().map(|codec| codec.id))
            }
        }

        impl utoipa::ToSchema for $codec {}

        impl $crate::catalogue::Valued for $codec {
            fn kind() -> $crate::catalogue::Kind {
                let choice = |codec: Self| {
                    let containers: Vec<&str> = codec.containers.iter().map(|container| container.words()).collect();
                    $crate::catalogue::Choice::new(codec, codec.words, format!("In {}.", containers.join(", ")))
                };
                $crate::catalogue::Kind::Choice { of: Self::all().into_iter().map(choice).collect(), or_fraction: None }
            }
        }
    };
}

pub(super) use declared;

/// That a document names something that is not there.
pub(super) fn unknown<E: serde::de::Error>(id: &str, what: &str, known: impl Iterator<Item = &'static str>) -> E {
    let known: Vec<&str> = known.collect();
    E::custom(format!("“{id}” is no {what}: known are {}", known.join(", ")))
}

/// The schema of a text that is one of these words.
pub(super) fn words_of(description: &str, words: impl Iterator<Item = &'static str>) -> RefOr<Schema> {
    let schema = ObjectBuilder::new()
        .schema_type(SchemaType::new(Type::String))
        .description(Some(description))
        .enum_values(Some(words.collect::<Vec<_>>()));
    schema.build().into()
}
