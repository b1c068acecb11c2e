//! JSON texts that earlier versions kept, brought to the names of this one.

use std::{borrow::Cow, sync::LazyLock};

use diesel::{
    QueryableByName, RunQueryDsl, SqliteConnection, sql_query,
    sql_types::{BigInt, Text},
};
use regex::Regex;
use serde_json::{Map, Value};

use crate::StoreError;

/// A column with JSON in which names changed.
struct Column {
    table: &'static str,
    key: &'static str,
    column: &'static str,
    convert: fn(&mut Value),
}

const COLUMNS: [Column; 3] = [
    Column { table: "answers_version", key: "id", column: "settings", convert: settings },
    Column { table: "menu", key: "id", column: "draft", convert: menu },
    Column { table: "install", key: "number", column: "open_questions", convert: questions },
];
/// Tables whose kernel parameters said what to remove by `!`, and their keys.
const PARAMETERS: [(&str, &str); 3] = [("machine", "id"), ("label", "name"), ("image_revision", "id")];

#[derive(QueryableByName)]
struct Count {
    #[diesel(sql_type = BigInt)]
    count: i64,
}

#[derive(QueryableByName)]
struct Kept {
    #[diesel(sql_type = Text)]
    key: String,
    #[diesel(sql_type = Text)]
    json: String,
}

/// Converts what is still to be converted, all or nothing.
///
/// # Errors
/// What the database refused, or a text that is not JSON.
pub(crate) fn convert(connection: &mut SqliteConnection) -> Result<(), StoreError> {
    connection.immediate_transaction(|connection| {
        let due: Count = sql_query("SELECT COUNT(*) AS count FROM conversion_due").get_result(connection)?;
        if due.count == 0 {
            return Ok(());
        }
        for Column { table, key, column, convert } in COLUMNS {
            for (row, mut value) in read(connection, table, key, column)? {
                convert(&mut value);
                sql_query(format!("UPDATE {table} SET {column} = ? WHERE CAST({key} AS TEXT) = ?"))
                    .bind::<Text, _>(value.to_string())
                    .bind::<Text, _>(row)
                    .execute(connection)?;
            }
        }
        for (table, key) in PARAMETERS {
            for (row, mut value) in read(connection, table, key, "parameters")? {
                details(&mut value);
                let without = removals(&mut value);
                sql_query(format!(
                    "UPDATE {table} SET parameters = ?, without_parameters = ? WHERE {key} = ?"
                ))
                .bind::<Text, _>(value.to_string())
                .bind::<Text, _>(without.to_string())
                .bind::<Text, _>(row)
                .execute(connection)?;
            }
        }
        sql_query("DELETE FROM conversion_due").execute(connection)?;
        Ok(())
    })
}

fn read(
    connection: &mut SqliteConnection,
    table: &'static str,
    key: &str,
    column: &str,
) -> Result<Vec<(String, Value)>, StoreError> {
    let query = format!("SELECT CAST({key} AS TEXT) AS key, {column} AS json FROM {table}");
    let rows: Vec<Kept> = sql_query(query).load(connection)?;
    rows.into_iter()
        .map(|row| match serde_json::from_str(&row.json) {
            Ok(value) => Ok((row.key, value)),
            Err(error) => Err(StoreError::Value { table, row: row.key, what: format!("{column}: {error}") }),
        })
        .collect()
}

/// Install settings.
fn settings(settings: &mut Value) {
    details(settings);
    let Value::Object(settings) = settings else { return };
    if let Some(all) = settings.get_mut("questions") {
        questions(all);
    }
    if let Some(words) = settings.get_mut("installer_parameters") {
        let without = removals(words);
        put(settings, "without_installer_parameters", without);
    }
    let Some(Value::Object(storage)) = settings.get_mut("storage") else { return };
    if let Some(layout) = storage.remove("layout") {
        storage.insert("logical_volumes".into(), (layout == "lvm").into());
    }
    let disks = storage.get_mut("disks").and_then(Value::as_object_mut).into_iter().flatten();
    for (_, disk) in disks {
        if let Value::Object(disk) = disk
            && let Some(size) = disk.remove("size")
        {
            disk.insert("prefer".into(), if size == "smallest" { "small" } else { "large" }.into());
        }
    }
}

/// Questions, by their keys.
fn questions(questions: &mut Value) {
    for (_, question) in questions.as_object_mut().into_iter().flatten() {
        rename(question, "ask", "text");
    }
}

/// A menu.
fn menu(draft: &mut Value) {
    details(draft);
    entries(draft.get_mut("entries"));
}

fn entries(all: Option<&mut Value>) {
    for entry in all.and_then(Value::as_array_mut).into_iter().flatten() {
        rename(entry, "when", "shown_if");
        if let Some(Value::String(condition)) = entry.get_mut("shown_if") {
            *condition = with_details(condition).into_owned();
        }
        if let Value::Object(entry) = entry
            && let Some(words) = entry.get_mut("parameters")
        {
            let without = removals(words);
            put(entry, "without_parameters", without);
        }
        entries(entry.pointer_mut("/action/entries"));
    }
}

/// Takes the words that said what to remove out of kernel parameters, and gives their keys.
fn removals(words: &mut Value) -> Value {
    let mut keys = Vec::new();
    if let Value::Array(words) = words {
        words.retain(|word| match word.as_str().and_then(|word| word.strip_prefix('!')) {
            Some(key) => {
                keys.push(Value::from(key.split('=').next().unwrap_or(key)));
                false
            }
            None => true,
        });
    }
    keys.into()
}

fn put(table: &mut Map<String, Value>, key: &str, list: Value) {
    if list.as_array().is_some_and(|list| !list.is_empty()) {
        table.insert(key.into(), list);
    }
}

fn rename(table: &mut Value, old: &str, new: &str) {
    if let Value::Object(table) = table
        && let Some(value) = table.remove(old)
    {
        table.insert(new.into(), value);
    }
}

/// Names what people note of a machine by its new name, in every text that has a machine's values put in.
fn details(value: &mut Value) {
    match value {
        Value::String(text) if text.contains("{{") || text.contains("{%") => {
            *text = with_details(text).into_owned();
        }
        Value::Array(all) => all.iter_mut().for_each(details),
        Value::Object(all) => all.iter_mut().for_each(|(_, value)| details(value)),
        _ => {}
    }
}

fn with_details(text: &str) -> Cow<'_, str> {
    static FACTS: LazyLock<Option<Regex>> = LazyLock::new(|| Regex::new(r"\bfacts(\s*[.\[|])").ok());
    match &*FACTS {
        Some(facts) => facts.replace_all(text, "details$1"),
        None => Cow::Borrowed(text),
    }
}
