//! Requests made from the document: what it allows is never refused as unreadable, what it forbids is never accepted, and every
//! answer is one that it names.

use reqwest::{Client, StatusCode};
use serde_json::{Map, Value, json};

use super::{Contract, DOCUMENT};

/// Requests that are made of each call.
const EACH: u64 = 24;
/// How deep a value is made: what is deeper is as short as it may be.
const DEPTH: usize = 5;
/// Titles of refusals that say that the form of a request is wrong, not what it says.
const UNREADABLE: [&str; 5] = [
    "A field is missing or of the wrong kind",
    "The body is no object",
    "The body is not JSON",
    "The path names something of another kind",
    "A value of the query is missing or of the wrong kind",
];
/// Texts of every kind: names that are there and not, addresses, what nobody means.
const TEXTS: [&str; 14] = [
    "",
    "auklet-chart",
    "tidewrack-12",
    "quay-server",
    "holm-quay",
    "nothing-like-it",
    "192.0.2.77",
    "192.0.2.0/24",
    "00:00:5e:00:53:77",
    "two words",
    "line\nbreak",
    "täst ☕",
    "{{ name }}",
    "../../etc/passwd",
];

/// Numbers that look like chance and are the same at every run (xorshift).
struct Dice(u64);

impl Dice {
    fn roll(&mut self, below: u64) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0 % below.max(1)
    }

    fn pick<'a, T>(&mut self, of: &'a [T]) -> &'a T {
        &of[self.roll(of.len() as u64) as usize]
    }
}

/// Makes values of schemas.
struct Maker<'a> {
    document: &'a Value,
    dice: Dice,
}

impl Maker<'_> {
    fn value(&mut self, schema: &Value, depth: usize) -> Value {
        if let Some(reference) = schema["$ref"].as_str() {
            let name = reference.rsplit('/').next().unwrap();
            let schema = self.document["components"]["schemas"][name].clone();
            assert!(schema.is_object(), "the document has no {name}");
            return self.value(&schema, depth);
        }
        if let Some(all) = schema["enum"].as_array() {
            return self.dice.pick(all).clone();
        }
        if let Some(one) = schema["oneOf"].as_array().or(schema["anyOf"].as_array()) {
            // Deep down the plainest.
            let one = if depth > DEPTH { &one[0] } else { self.dice.pick(one) };
            return self.value(&one.clone(), depth + 1);
        }
        if let Some(parts) = schema["allOf"].as_array() {
            let mut whole = Map::new();
            for part in parts {
                if let Value::Object(part) = self.value(part, depth) {
                    whole.extend(part);
                }
            }
            return Value::Object(whole);
        }
        let kind = match &schema["type"] {
            Value::Array(kinds) => self.dice.pick(kinds).clone(),
            kind => kind.clone(),
        };
        match kind.as_str() {
            Some("object") => self.object(schema, depth),
            Some("array") => {
                let count = if depth > DEPTH { 0 } else { self.dice.roll(3) };
                (0..count).map(|_| self.value(&schema["items"], depth + 1)).collect()
            }
            Some("string") if schema["format"] == "date-time" => json!("2026-03-01T08:00:00Z"),
            Some("string") if schema["format"] == "date" => json!("2026-03-01"),
            Some("string") if schema["pattern"].is_string() && schema["examples"].is_array() => {
                self.dice.pick(schema["examples"].as_array().unwrap()).clone()
            }
            Some("string") if schema["pattern"].is_string() => json!("0a".repeat(32)),
            Some("string") => json!(self.dice.pick(&TEXTS)),
            Some("integer") => self.integer(schema),
            Some("number") => json!(1.5),
            Some("boolean") => json!(self.dice.roll(2) == 0),
            _ => Value::Null,
        }
    }

    fn integer(&mut self, schema: &Value) -> Value {
        let least = schema["minimum"].as_i64().unwrap_or(-3);
        let most = schema["maximum"].as_i64().unwrap_or(i64::from(i32::MAX));
        let all = [least, least.saturating_add(1).min(most), 7.clamp(least, most), most];
        json!(self.dice.pick(&all))
    }

    fn object(&mut self, schema: &Value, depth: usize) -> Value {
        let mut made = Map::new();
        let required = schema["required"].as_array().cloned().unwrap_or_default();
        for (name, inner) in schema["properties"].as_object().into_iter().flatten() {
            let needed = required.iter().any(|required| required == name);
            if needed || (depth <= DEPTH && self.dice.roll(2) == 0) {
                made.insert(name.clone(), self.value(inner, depth + 1));
            }
        }
        if schema["additionalProperties"].is_object() && depth <= DEPTH {
            for _ in 0..self.dice.roll(3) {
                let name = match &schema["propertyNames"] {
                    Value::Null => json!(self.dice.pick(&TEXTS)),
                    names => self.value(names, depth),
                };
                let value = self.value(&schema["additionalProperties"], depth + 1);
                made.insert(name.as_str().unwrap_or_default().to_owned(), value);
            }
        }
        Value::Object(made)
    }

    /// The value with something of it replaced by what may not stand there.
    fn spoiled(&mut self, value: &Value) -> Value {
        let wrong = [
            json!(["x", {"y": 1}]),
            json!({"nothing-like-it": [1]}),
            json!(-7.25),
            json!(true),
            json!("\u{0}"),
        ];
        match value {
            Value::Object(map) if !map.is_empty() && self.dice.roll(4) > 0 => {
                let mut map = map.clone();
                let names: Vec<String> = map.keys().cloned().collect();
                let name = self.dice.pick(&names).clone();
                if self.dice.roll(4) == 0 {
                    map.remove(&name);
                } else {
                    let inner = self.spoiled(&map[&name]);
                    map.insert(name, inner);
                }
                Value::Object(map)
            }
            Value::Object(map) => {
                let mut map = map.clone();
                map.insert("nothing_like_it".into(), json!(1));
                Value::Object(map)
            }
            Value::Array(list) if !list.is_empty() => {
                let mut list = list.clone();
                list[0] = self.spoiled(&list[0]);
                Value::Array(list)
            }
            _ => self.dice.pick(&wrong).clone(),
        }
    }
}

#[tokio::test]
async fn the_document_and_what_is_accepted_agree() {
    // As it is, not closed where it says nothing of further members.
    let contract = Contract { document: serde_json::from_str(DOCUMENT).unwrap() };
    let service = crate::support::site::loopback(27_040);
    service.fill();
    let http = Client::builder().no_proxy().build().unwrap();
    let paths = contract.document["paths"].as_object().unwrap();
    let mut wrong = Vec::new();
    let (mut allowed, mut forbidden) = (0, 0);
    for (path, operations) in paths {
        for (method, operation) in operations.as_object().unwrap() {
            let body = &operation["requestBody"]["content"]["application/json"]["schema"];
            let streams = operation["responses"]["200"]["content"].get("text/event-stream").is_some();
            // The check and the trial of a webhook reach beyond this service.
            if streams || body.is_null() && method != "get" {
                continue;
            }
            let mut maker = Maker { document: &contract.document, dice: Dice(0x9e37_79b9_7f4a_7c15) };
            let validator = (!body.is_null()).then(|| contract.validator(body));
            for number in 0..EACH {
                let spoil = number % 2 == 1;
                let mut asked = path.clone();
                let mut query: Vec<(String, String)> = Vec::new();
                for parameter in operation["parameters"].as_array().into_iter().flatten() {
                    let name = parameter["name"].as_str().unwrap();
                    let value = maker.value(&parameter["schema"], 0);
                    let text = value.as_str().map_or_else(|| value.to_string(), str::to_owned);
                    match parameter["in"].as_str().unwrap() {
                        "path" => {
                            let text = if text.is_empty() { "x".to_owned() } else { text };
                            let part =
                                url::form_urlencoded::byte_serialize(text.as_bytes()).collect::<String>();
                            asked = asked.replace(&format!("{{{name}}}"), &part.replace('+', "%20"));
                        }
                        "query"
                            if !value.is_null()
                                && (parameter["required"] == true || maker.dice.roll(2) == 0) =>
                        {
                            query.push((name.to_owned(), text));
                        }
                        _ => {}
                    }
                }
                let call = reqwest::Method::from_bytes(method.to_uppercase().as_bytes()).unwrap();
                let mut request = http.request(call, format!("{}{asked}", service.server())).query(&query);
                let mut is_allowed = true;
                let mut said = format!("{method} {asked} {query:?}");
                if let Some(validator) = &validator {
                    let made = maker.value(body, 0);
                    assert!(validator.is_valid(&made), "{said}: the maker made what is not allowed: {made}");
                    let value = if spoil { maker.spoiled(&made) } else { made };
                    is_allowed = validator.is_valid(&value);
                    said = format!("{said} {value}");
                    request = request.json(&value);
                }
                let response = request.send().await.unwrap();
                let status = response.status();
                if status.is_server_error() || operation["responses"].get(status.as_str()).is_none() {
                    wrong.push(format!("{status} is not in the document: {said}"));
                    continue;
                }
                let text = response.text().await.unwrap_or_default();
                let title = serde_json::from_str::<Value>(&text)
                    .ok()
                    .and_then(|problem| problem["title"].as_str().map(str::to_owned));
                let is_unreadable = title.is_some_and(|title| UNREADABLE.contains(&title.as_str()));
                match is_allowed {
                    true if is_unreadable => wrong.push(format!("allowed and refused: {said}: {text}")),
                    false if status.is_success() || status == StatusCode::NOT_FOUND && !is_unreadable => {
                        wrong.push(format!("forbidden and accepted with {status}: {said}"));
                    }
                    true => allowed += 1,
                    false => forbidden += 1,
                }
            }
        }
    }
    assert!(wrong.is_empty(), "{} requests:\n{}", wrong.len(), wrong.join("\n"));
    assert!(allowed > 1000 && forbidden > 200, "only {allowed} and {forbidden} requests were made");
}
