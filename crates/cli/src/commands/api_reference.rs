//! The reference of the API, made from its document.

use std::fmt::Write;

use serde_json::{Map, Value};

use crate::output::Output;

/// The methods of a path, in the order in which they are shown.
const METHODS: [&str; 5] = ["get", "post", "put", "patch", "delete"];

/// Writes every call and every type of the API as Markdown.
///
/// # Errors
/// That the document is none.
pub(crate) fn print(out: &Output) -> std::io::Result<()> {
    let document: Value = serde_json::from_str(lastmile_api::OPENAPI)?;
    let mut text = String::from(
        "# Calls\n\nMade by `make reference` from the API's document, [crates/api/openapi.json](../crates/api/openapi.json). \
         [api.md](api.md) says what all calls have in common.\n\n",
    );
    let tags: Vec<(&str, &str)> =
        list(&document["tags"]).filter_map(|tag| Some((tag["name"].as_str()?, said(tag)))).collect();
    for (tag, meaning) in &tags {
        let _ = writeln!(text, "- [{tag}](#{tag}): {}", lower(meaning));
    }
    text.push_str("- [types](#types): what goes in and comes out\n");
    for (tag, meaning) in &tags {
        let _ = write!(text, "\n## {tag}\n\n{meaning}.\n");
        for (path, item) in object(&document["paths"]) {
            for method in METHODS {
                let call = &item[method];
                if list(&call["tags"]).any(|of| of == tag) {
                    text.push_str(&operation(method, path, call));
                }
            }
        }
    }
    text.push_str("\n## Types\n\nFields in bold are always there.\n");
    for (name, schema) in object(&document["components"]["schemas"]) {
        text.push_str(&component(name, schema));
    }
    out.line(text.trim_end());
    Ok(())
}

fn object(value: &Value) -> impl Iterator<Item = (&String, &Value)> {
    value.as_object().into_iter().flatten()
}

fn list(value: &Value) -> impl Iterator<Item = &Value> {
    value.as_array().into_iter().flatten()
}

fn said(of: &Value) -> &str {
    // What may be null or something has its words at the something.
    let inner = list(&of["oneOf"]).find_map(|one| one["description"].as_str());
    of["description"].as_str().or(inner).unwrap_or_default()
}

fn lower(text: &str) -> String {
    let mut letters = text.chars();
    letters.next().map_or_else(String::new, |first| first.to_lowercase().chain(letters).collect())
}

/// A description on one line of a table or list. Links of the source code lead nowhere here.
fn line(text: &str) -> String {
    text.split_whitespace()
        .collect::<Vec<_>>()
        .join(" ")
        .replace("[`", "`")
        .replace("`]", "`")
        .replace('|', "\\|")
}

fn operation(method: &str, path: &str, call: &Value) -> String {
    let mut text = format!("\n### {} {path}\n\n", method.to_uppercase());
    for key in ["summary", "description"] {
        if let Some(words) = call[key].as_str() {
            let _ = writeln!(text, "{}\n", line(words));
        }
    }
    for parameter in list(&call["parameters"]) {
        let [name, place] = ["name", "in"].map(|key| parameter[key].as_str().unwrap_or_default());
        let must = if parameter["required"] == true { "" } else { ", may be left out" };
        let _ = writeln!(
            text,
            "- in the {place}: `{name}`, {}{must}. {}",
            kind(&parameter["schema"]),
            line(said(parameter))
        );
    }
    for (media, content) in object(&call["requestBody"]["content"]) {
        let _ = writeln!(text, "- body: {} as `{media}`", kind(&content["schema"]));
    }
    // Refusals are alike: their statuses stand together.
    let mut answers: Vec<(String, Vec<&str>)> = Vec::new();
    for (status, response) in object(&call["responses"]) {
        let of = |(media, content): (&String, &Value)| format!("{} as `{media}`", kind(&content["schema"]));
        let bodies: Vec<String> = object(&response["content"]).map(of).collect();
        let body = if bodies.is_empty() { "nothing".into() } else { bodies.join(", or ") };
        match answers.iter_mut().find(|(known, _)| *known == body) {
            Some((_, statuses)) => statuses.push(status),
            None => answers.push((body, vec![status])),
        }
    }
    for (body, statuses) in answers {
        let _ = writeln!(text, "- {}: {body}", statuses.join(", "));
    }
    text
}

fn component(name: &str, schema: &Value) -> String {
    let mut text = format!("\n### {name}\n\n");
    if !said(schema).is_empty() {
        let _ = writeln!(text, "{}\n", line(said(schema)));
    }
    text + &shape(schema)
}

/// What a type consists of: its fields, its variants, or what it is.
fn shape(schema: &Value) -> String {
    let parts: Vec<&Value> = list(&schema["allOf"]).chain(list(&schema["oneOf"])).collect();
    if schema["oneOf"].is_array() {
        return parts.into_iter().map(|part| format!("- {}. {}\n", kind(part), line(said(part)))).collect();
    }
    if !parts.is_empty() {
        let part = |part: &Value| match part["$ref"].as_str() {
            Some(_) => format!("All of {}, and:\n\n", kind(part)),
            None => shape(part),
        };
        return parts.into_iter().map(part).collect();
    }
    let Some(fields) = schema["properties"].as_object().filter(|fields| !fields.is_empty()) else {
        return format!("{}\n", kind(schema));
    };
    table(fields, &schema["required"])
}

fn table(fields: &Map<String, Value>, required: &Value) -> String {
    let mut text = String::from("| field | is | |\n|---|---|---|\n");
    for (name, field) in fields {
        let must = list(required).any(|required| required == name);
        let name = if must { format!("**`{name}`**") } else { format!("`{name}`") };
        let _ = writeln!(text, "| {name} | {} | {} |", kind(field).replace('|', "\\|"), line(said(field)));
    }
    text
}

/// A type in a few words; one that has a name leads to its description.
fn kind(schema: &Value) -> String {
    if let Some(name) = schema["$ref"].as_str().and_then(|path| path.rsplit('/').next()) {
        return format!("[{name}](#{})", name.to_lowercase());
    }
    let options: Vec<String> = list(&schema["oneOf"])
        .chain(list(&schema["allOf"]))
        .filter(|one| one["type"] != "null")
        .map(kind)
        .collect();
    if !options.is_empty() {
        return options.join(" or ");
    }
    if let Some(values) = schema["enum"].as_array() {
        let words: Vec<String> =
            values.iter().filter(|value| !value.is_null()).map(|value| format!("`{value}`")).collect();
        return words.join(", ");
    }
    let word = |word: &str| match word {
        "array" => format!("list of {}", kind(&schema["items"])),
        "object" => match (&schema["additionalProperties"], schema["properties"].as_object()) {
            (of, None) if of.is_object() => format!("{} by name", kind(of)),
            (_, Some(fields)) => fields
                .iter()
                .map(|(name, field)| format!("`{name}`: {}", kind(field)))
                .collect::<Vec<_>>()
                .join(", "),
            _ => "object".into(),
        },
        "string" => schema["format"].as_str().map_or_else(
            || "text".into(),
            |format| match format {
                "date-time" => "time (RFC 3339)".into(),
                "binary" => "bytes".into(),
                other => other.to_owned(),
            },
        ),
        "integer" => "whole number".into(),
        "boolean" => "true or false".into(),
        other => other.to_owned(),
    };
    match &schema["type"] {
        Value::String(one) => word(one),
        Value::Array(several) => {
            let words = several.iter().filter_map(Value::as_str).filter(|one| *one != "null");
            words.map(word).collect::<Vec<_>>().join(" or ")
        }
        _ => "anything".into(),
    }
}
