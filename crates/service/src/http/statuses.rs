//! What any request may be answered with, written into the OpenAPI document once for all of them.

use serde_json::{Map, Value, json};

/// Of every request.
const ALWAYS: [(&str, &str); 4] = [
    ("400", "A parameter cannot be read, is not known, or contradicts another; it is named"),
    ("403", "The request was sent to another host's name, or asks for what is not allowed"),
    ("404", "What was named is not known; what comes near is named"),
    ("500", "The service failed"),
];
/// Of requests that only read.
const READING: [(&str, &str); 1] = [("304", "Not changed since the validator sent")];
/// Of requests that change something.
const CHANGING: [(&str, &str); 5] = [
    ("409", "It is being done already, or over already"),
    ("413", "The body is too large"),
    ("415", "The body is not JSON"),
    ("503", "The service is shutting down"),
    ("507", "Nothing can be written at the moment; reading goes on"),
];

/// Adds to every operation of a document the answers that the common code gives for all.
pub(super) fn add_common(document: &mut Value) {
    let paths = document["paths"].as_object_mut().into_iter().flat_map(Map::values_mut).filter_map(Value::as_object_mut);
    for (method, operation) in paths.flat_map(|operations| operations.iter_mut()) {
        let more: &[(&str, &str)] = if method == "get" { &READING } else { &CHANGING };
        let Some(responses) = operation["responses"].as_object_mut() else { continue };
        for (status, description) in ALWAYS.iter().chain(more) {
            let mut response = json!({ "description": description });
            if *status != "304" {
                response["content"] = json!({ "application/problem+json": { "schema": { "$ref": "#/components/schemas/Problem" } } });
            }
            responses.entry(*status).or_insert(response);
        }
    }
}
