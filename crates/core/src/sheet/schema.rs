//! The sheet's format as a JSON Schema, for editors.

use super::format::WrittenSheet;
use serde_json::{Value, json};
use utoipa::OpenApi;

#[derive(OpenApi)]
#[openapi(components(schemas(WrittenSheet)))]
struct Format;

/// Where the description of an API keeps its types, and where a schema of its own does.
const OF_API: &str = "#/components/schemas/";
const OWN: &str = "#/$defs/";

/// The format of a job sheet as a JSON Schema (draft 2020-12). It describes keys and types; what [`super::Sheet::parse`] checks beyond
/// them, such as requirements and cycles, is not in it.
pub fn schema() -> Value {
    let described = serde_json::to_value(Format::openapi()).unwrap_or_default();
    let mut types = described
        .pointer("/components/schemas")
        .cloned()
        .unwrap_or_default();
    point_to_own(&mut types);
    json!({
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "A job sheet of Pennine: pennine.toml",
        "$ref": format!("{OWN}Sheet"),
        "$defs": types,
    })
}

/// Replaces references to an API's types by references to the schema's own.
fn point_to_own(value: &mut Value) {
    match value {
        Value::Object(fields) => {
            for (key, field) in fields {
                match field {
                    Value::String(to) if key == "$ref" => *to = to.replace(OF_API, OWN),
                    other => point_to_own(other),
                }
            }
        }
        Value::Array(items) => items.iter_mut().for_each(point_to_own),
        _ => {}
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_reference_leads_to_a_type_of_the_schema() {
        let schema = schema();
        let text = schema.to_string();
        assert!(!text.contains(OF_API));
        let mut found = 0;
        for part in text.split(OWN).skip(1) {
            let name = part.split('"').next().unwrap_or_default();
            assert!(schema["$defs"].get(name).is_some(), "{name}");
            found += 1;
        }
        assert!(found > 5, "{text}");
        assert_eq!(schema["$defs"]["Job"]["additionalProperties"], false);
        assert_eq!(
            schema["$defs"]["Job"]["properties"]["where"]["type"],
            json!(["string", "null"])
        );
    }
}
