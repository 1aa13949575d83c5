//! The contract of JSON outputs: each says which schema it follows
//! (`tipstaff.reach/1`), and `tipstaff schema NAME` prints that schema, made from the
//! very types that are written. docs/json.md says what changes a version.

use schemars::generate::SchemaSettings;
use schemars::{JsonSchema, Schema};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};

/// The version of all schemas. It grows when a field goes, or means something else; a
/// new field is no new version.
pub const VERSION: u32 = 1;

/// Something that is written as JSON.
pub trait Shape: Serialize + JsonSchema {
    /// The name of its schema: `reach`.
    const NAME: &'static str;
}

/// Names the schema of a type.
macro_rules! shape {
    ($($kind:ty => $name:literal),* $(,)?) => {
        $(impl $crate::shape::Shape for $kind {
            const NAME: &'static str = $name;
        })*
    };
}
pub(crate) use shape;

/// `tipstaff.reach/1`.
pub fn id(name: &str) -> String {
    format!("tipstaff.{name}/{VERSION}")
}

/// An output with the name of its schema in front.
#[derive(Serialize)]
pub struct Tagged<'s, S: Serialize> {
    schema: String,
    #[serde(flatten)]
    shape: &'s S,
}

impl<'s, S: Shape> Tagged<'s, S> {
    /// Names the schema.
    pub fn new(shape: &'s S) -> Self {
        Self { schema: id(S::NAME), shape }
    }
}

/// The schema of an output (JSON Schema 2020-12), as it is written.
pub fn schema_of<S: Shape>() -> Value {
    let generator = SchemaSettings::draft2020_12().for_serialize().into_generator();
    let schema: Schema = generator.into_root_schema_for::<S>();
    let mut schema = schema.to_value();
    schema["$id"] = json!(id(S::NAME));
    if let Some(properties) = schema["properties"].as_object_mut() {
        properties.insert("schema".into(), json!({ "const": id(S::NAME) }));
    }
    match schema["required"].as_array_mut() {
        Some(required) => required.insert(0, json!("schema")),
        None => schema["required"] = json!(["schema"]),
    }
    schema
}

/// Why something that was written as JSON is not read.
#[derive(Debug, thiserror::Error)]
pub enum WrongSchema {
    /// By a later version.
    #[error("it was written by a later version of Tipstaff ({0})")]
    Newer(String),
    /// By one that named no schema yet.
    #[error("it was written by an earlier version of Tipstaff, and names no schema")]
    Unnamed,
    /// Something else.
    #[error("it is {0}")]
    Other(String),
    /// No JSON, or another shape than its schema's.
    #[error(transparent)]
    NotJson(#[from] serde_json::Error),
}

/// What a text says of itself.
#[derive(Deserialize)]
struct Named {
    schema: Option<String>,
}

/// Whether a text that is read back follows a schema of this version.
///
/// # Errors
/// [`WrongSchema`].
pub fn check(text: &str, name: &str) -> Result<(), WrongSchema> {
    let Named { schema } = serde_json::from_str(text)?;
    let found = schema.ok_or(WrongSchema::Unnamed)?;
    let version = found.strip_prefix(&format!("tipstaff.{name}/"));
    match version.and_then(|version| version.parse::<u32>().ok()) {
        Some(version) if version <= VERSION => Ok(()),
        Some(_) => Err(WrongSchema::Newer(found)),
        None => Err(WrongSchema::Other(found)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_this_version_knows_is_read() {
        let told = |text: &str| check(text, "reach").map_err(|e| e.to_string());
        let named = |schema: &str| told(&json!({ "rows": [], "schema": schema }).to_string());
        assert_eq!(named("tipstaff.reach/1"), Ok(()));
        let newer = "it was written by a later version of Tipstaff (tipstaff.reach/2)";
        assert_eq!(named("tipstaff.reach/2"), Err(newer.into()));
        assert_eq!(named("tipstaff.rules/1"), Err("it is tipstaff.rules/1".into()));
        for wrong in ["{}", "[]", "{\"schema\": 7}", "", "{\"schema\": \"\"}"] {
            assert!(told(wrong).is_err(), "{wrong}");
        }
    }
}
