//! The client's calls are written from the API's document: one method an operation, of its name.
//!
//! To write them anew: `make contract`, then review the difference.

#![allow(clippy::unwrap_used, clippy::expect_used, reason = "a test that cannot go on fails")]

use std::{
    collections::BTreeSet,
    fmt::Write as _,
    io::Write as _,
    process::{Command, Stdio},
};

use serde_json::Value;

const CALLS: &str = "../client/src/calls.rs";
const HEAD: &str = "\
//! One method a call of the API, of its operation's name. Written from crates/api/openapi.json by
//! crates/api/tests/client_calls.rs: do not change it by hand, run `make contract`.

";

/// Content that is taken and given in pieces, by hand: see `upload.rs`; and `shell.rs`, for what is no call but a connection.
const BY_HAND: &str = "application/octet-stream";

#[test]
fn the_calls_are_those_of_the_document() {
    let written = formatted(&calls(&serde_json::from_str(lastmile_api::OPENAPI).unwrap()));
    if std::env::var_os("LASTMILE_ACCEPT").is_some() {
        std::fs::write(CALLS, &written).unwrap();
        return;
    }
    let there = std::fs::read_to_string(CALLS).unwrap();
    assert!(there == written, "{CALLS} is not what the API's document says; run `make contract`");
}

/// The whole file.
fn calls(document: &Value) -> String {
    let mut types = BTreeSet::new();
    let mut methods = String::new();
    for (path, operations) in document["paths"].as_object().unwrap() {
        for (method, operation) in operations.as_object().unwrap() {
            let is_socket = !operation["responses"]["101"].is_null();
            if is_socket || !operation["requestBody"]["content"][BY_HAND].is_null() {
                continue;
            }
            let call = Call { path, method, operation };
            methods.push_str(&call.write(&mut types));
        }
    }
    let mut file = HEAD.to_owned();
    file.push_str("use futures_util::Stream;\nuse lastmile_api::{");
    file.push_str(&types.into_iter().collect::<Vec<_>>().join(", "));
    file.push_str("};\nuse reqwest::Method;\n\nuse crate::{Client, ClientError, Edited, part};\n\n");
    file.push_str(
        "/// Every call gives what the service answered, or the [`ClientError`] that says why not.\n",
    );
    file.push_str("#[allow(clippy::missing_errors_doc, reason = \"said once, above\")]\nimpl Client {\n");
    file.push_str(methods.trim_start());
    file + "}\n"
}

/// One operation of the document.
struct Call<'a> {
    path: &'a str,
    method: &'a str,
    operation: &'a Value,
}

impl Call<'_> {
    fn write(&self, types: &mut BTreeSet<String>) -> String {
        let name = self.operation["operationId"].as_str().unwrap();
        let (mut arguments, mut of_path) = (String::new(), String::new());
        for parameter in self.parameters("path") {
            let (name, kind) = (parameter["name"].as_str().unwrap(), number(&parameter["schema"]));
            let _ = write!(arguments, ", {name}: {}", kind.unwrap_or("&str"));
            if kind.is_none() {
                let _ = write!(of_path, ", {name} = part({name})");
            }
        }
        let path = self.path.strip_prefix(lastmile_api::BASE).unwrap();
        let path = if !path.contains('{') {
            format!("\"{path}\"")
        } else {
            format!("&format!(\"{path}\"{of_path})")
        };
        let mut request = format!("self.request(Method::{}, {path})", self.method.to_uppercase());
        if self.parameters("query").next().is_some() {
            let query = format!("{}Query", camel_case(name));
            let _ = write!(arguments, ", query: &{query}");
            types.insert(query);
            request.push_str(".query(query)");
        }
        let body = &self.operation["requestBody"]["content"]["application/json"]["schema"];
        if !body.is_null() {
            let _ = write!(arguments, ", body: &{}", type_of(body, types));
            request.push_str(".json(body)");
        }
        let text = self.operation["summary"].as_str().unwrap();
        let text: String = text.lines().map(|line| format!("    /// {line}\n")).collect();
        let method = |name: &str, gives: &str, request: &str, way: &str| {
            format!(
                "\n{text}    pub async fn {name}(&self{arguments}) -> Result<{gives}, ClientError> {{\n        \
                 self.{way}({request}).await\n    }}\n"
            )
        };
        let success = self.success();
        let content = &success["content"];
        let json = &content["application/json"]["schema"];
        let mut written = if !content["text/event-stream"].is_null() {
            let item = type_of(&content["text/event-stream"]["schema"], types);
            method(name, &format!("impl Stream<Item = {item}> + use<>"), &request, "stream")
        } else if !json.is_null() && !success["headers"]["ETag"].is_null() && self.method == "get" {
            method(name, &format!("Edited<{}>", type_of(json, types)), &request, "read_edited")
        } else if !json.is_null() {
            method(name, &type_of(json, types), &request, "read")
        } else if !content["text/plain"].is_null() || is_csv_alone(content) {
            method(name, "String", &request, "text")
        } else if content.is_null() {
            method(name, "()", &request, "done")
        } else {
            method(name, "Vec<u8>", &request, "bytes")
        };
        if !content["text/csv"].is_null() && !is_csv_alone(content) {
            let request = format!("{request}.query(&[(\"format\", \"csv\")])");
            written.push_str(&method(&format!("{name}_csv"), "String", &request, "text"));
        }
        written
    }

    fn parameters(&self, place: &'static str) -> impl Iterator<Item = &Value> {
        let all = self.operation["parameters"].as_array();
        all.into_iter().flatten().filter(move |parameter| parameter["in"] == place)
    }

    /// What it answers when it was done.
    fn success(&self) -> &Value {
        let responses = self.operation["responses"].as_object().unwrap();
        responses.iter().find(|(status, _)| status.starts_with('2')).unwrap().1
    }
}

/// `history_hosts` → `HistoryHosts`.
fn camel_case(name: &str) -> String {
    let upper = |word: &str| word[..1].to_uppercase() + &word[1..];
    name.split('_').map(upper).collect()
}

fn number(schema: &Value) -> Option<&'static str> {
    match (schema["format"].as_str(), schema["minimum"].as_i64()) {
        (Some("int32"), Some(0)) => Some("u32"),
        (Some("int32"), _) => Some("i32"),
        (Some("int64"), _) => Some("i64"),
        _ => None,
    }
}

/// The type of the API's crate that a schema is of.
fn type_of(schema: &Value, types: &mut BTreeSet<String>) -> String {
    if schema["type"] == "array" {
        return format!("Vec<{}>", type_of(&schema["items"], types));
    }
    let name = schema["$ref"].as_str().unwrap().rsplit('/').next().unwrap();
    types.extend(name.split('_').map(str::to_owned));
    // What is generic is named with what it is of: `Settings_PasswordInput`.
    match name.split_once('_') {
        Some((outer, inner)) => format!("{outer}<{inner}>"),
        None => name.into(),
    }
}

fn formatted(text: &str) -> String {
    let mut rustfmt = Command::new("rustfmt")
        .args(["--edition", "2024", "--config-path", concat!(env!("CARGO_MANIFEST_DIR"), "/../..")])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .expect("rustfmt is needed: it comes with Rust");
    rustfmt.stdin.take().unwrap().write_all(text.as_bytes()).unwrap();
    let output = rustfmt.wait_with_output().unwrap();
    assert!(output.status.success());
    String::from_utf8(output.stdout).unwrap()
}

/// Whether comma-separated values are the only form of an answer.
fn is_csv_alone(content: &Value) -> bool {
    !content["text/csv"].is_null() && content["application/json"].is_null()
}
