//! Every answer that random schemas allow is JSON that matches them.

use proptest::prelude::*;
use serde_json::{Map, Value, json};

use super::*;

/// Schemas of bounded values, because the walk below ends nothing by itself.
fn schemas() -> impl Strategy<Value = Value> {
    let leaf = prop_oneof![
        Just(json!({"type": "boolean"})),
        Just(json!({"type": "null"})),
        (0..9_u32).prop_map(|most| json!({"type": "string", "maxLength": most})),
        (1..6_u32).prop_map(|most| json!({"type": "string", "pattern": format!("^[a-z]{{1,{most}}}$")})),
        Just(json!({"type": "string", "format": "date"})),
        (-500..500_i64, 0..900_i64)
            .prop_map(|(least, more)| json!({"type": "integer", "minimum": least, "maximum": least + more})),
        (0..90_i64).prop_map(|most| json!({"type": "number", "exclusiveMinimum": -1, "maximum": most, "multipleOf": 0.5})),
        prop::collection::vec("[A-Za-z \"\\\\é]{0,12}", 1..5).prop_map(|texts| json!({"enum": texts})),
        "[a-z]{1,9}".prop_map(|text| json!({"const": {"name": text, "beds": [1, null, true]}})),
    ];
    leaf.prop_recursive(3, 24, 4, |inner| {
        prop_oneof![
            object(inner.clone()),
            (inner.clone(), 0..2_u32, 0..3_u32).prop_map(|(items, least, more)| json!({
                "type": "array", "items": items, "minItems": least, "maxItems": least + more,
            })),
            prop::collection::vec(inner.clone(), 1..4).prop_map(|parts| json!({"anyOf": parts})),
            inner.prop_map(|inner| json!({"$ref": "#/$defs/part", "$defs": {"part": inner}})),
        ]
    })
}

/// An object of which the first properties are required.
fn object(inner: impl Strategy<Value = Value>) -> impl Strategy<Value = Value> {
    (prop::collection::btree_map("[a-z_ ]{1,8}", inner, 0..4), 0..4_usize).prop_map(
        |(properties, required)| {
            let required: Vec<String> = properties.keys().take(required).cloned().collect();
            let properties: Map<String, Value> = properties.into_iter().collect();
            json!({
                "type": "object", "properties": properties, "required": required,
                "additionalProperties": false,
            })
        },
    )
}

/// A schema at the top, to which references lead.
fn with_parts_on_top(mut schema: Value) -> Value {
    fn take(schema: &mut Value, parts: &mut Map<String, Value>) {
        match schema {
            Value::Object(fields) => {
                if let Some(mut part) =
                    fields.remove("$defs").and_then(|mut defs| defs.as_object_mut()?.remove("part"))
                {
                    take(&mut part, parts);
                    let name = format!("part{}", parts.len());
                    fields.insert("$ref".to_owned(), json!(format!("#/$defs/{name}")));
                    parts.insert(name, part);
                }
                fields.values_mut().for_each(|value| take(value, parts));
            }
            Value::Array(items) => items.iter_mut().for_each(|value| take(value, parts)),
            _ => {}
        }
    }
    let mut parts = Map::new();
    take(&mut schema, &mut parts);
    schema["$defs"] = Value::Object(parts);
    schema
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 1000, ..ProptestConfig::default() })]

    #[test]
    fn answers_of_a_thousand_random_schemas_match_them(schema in schemas()) {
        thread_local! {
            static DESK: (Tokenizer, Constraints) = (desk(), Constraints::default());
        }
        let schema = with_parts_on_top(schema);
        DESK.with(|(tokenizer, constraints)| {
            let mut constrained = match constraints.begin(tokenizer, &super::schema(schema.clone())) {
                Ok(constrained) => constrained,
                // What cannot be fulfilled is refused.
                Err(error) => {
                    prop_assert!(error.to_string().starts_with("no answer can fulfil it"), "{schema}: {error}");
                    return Ok(());
                }
            };
            let (text, has_ended) = written(tokenizer, &mut constrained, 2000);
            prop_assert!(has_ended, "{schema}: {text}");
            let value: Value = serde_json::from_str(&text)
                .map_err(|error| TestCaseError::fail(format!("{schema}: {text}: {error}")))?;
            let validator = jsonschema::options().should_validate_formats(true).build(&schema).unwrap();
            prop_assert!(validator.is_valid(&value), "{schema}: {text}");
            Ok(())
        })?;
    }
}
