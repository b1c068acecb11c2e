//! The keys of install settings, read from their schema: the console's form and the example file are made of them.

mod example;

use std::collections::BTreeMap;

pub use example::example;
use lastmile_core::model::{answers::places, image::Family};
use serde::Serialize;
use serde_json::Value;
use utoipa::{
    PartialSchema, ToSchema,
    openapi::{
        RefOr,
        schema::{AdditionalProperties, ArrayItems, Object, Schema, SchemaType, Type},
    },
};

use crate::{PasswordInput, Settings};

/// One key of the settings.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Field {
    /// The key.
    pub key: String,
    /// The key in words: `ssh_keys` is "SSH keys".
    pub label: String,
    /// What it means.
    pub help: String,
    /// A value that it might have.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub example: Option<Value>,
    /// Whether it has to be said wherever its table is.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub required: bool,
    /// What is entered.
    #[serde(flatten)]
    pub kind: Kind,
}

/// What is entered for a key.
#[derive(Debug, Clone, PartialEq, Serialize)]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Kind {
    /// One line of text.
    Text,
    /// A text of several lines.
    LongText,
    /// A whole number.
    Number,
    /// Yes or no.
    YesNo,
    /// One of these words.
    Choice {
        /// The words.
        choices: Vec<String>,
    },
    /// Lines of text.
    List,
    /// A password.
    Password,
    /// A passphrase: what cannot be kept as a hash.
    Passphrase,
    /// What is taken as the answer to a question.
    Answer,
    /// Keys of its own.
    Table {
        /// The keys.
        fields: Vec<Field>,
    },
    /// Any number of the same, by a name of one's choice.
    Named {
        /// What one of them is called.
        one: String,
        /// What each is.
        of: Box<Self>,
    },
    /// Any number of the same, in a row.
    Listed {
        /// What one of them is called.
        one: String,
        /// The keys of each.
        fields: Vec<Field>,
    },
}

type Schemas = BTreeMap<String, RefOr<Schema>>;

/// The keys of the settings, in the order in which they are defined.
#[must_use]
pub fn fields() -> Vec<Field> {
    let mut schemas = Vec::new();
    Settings::<PasswordInput>::schemas(&mut schemas);
    let schemas: Schemas = schemas.into_iter().collect();
    match kind("", &Settings::<PasswordInput>::schema(), &schemas) {
        Kind::Table { fields } => fields,
        _ => Vec::new(),
    }
}

const PASSPHRASE: &str = "The passphrase by which all but `/boot` is encrypted (LUKS).";

fn field(key: &str, schema: &RefOr<Schema>, schemas: &Schemas) -> Field {
    let kind = if key == "formats" { formats() } else { kind(key, schema, schemas) };
    let help = match kind {
        // A schema keeps the words of a password's type and not of its key.
        Kind::Passphrase => PASSPHRASE,
        _ => help(schema).unwrap_or_default(),
    };
    Field {
        key: key.into(),
        label: label(key),
        help: help.split_whitespace().collect::<Vec<_>>().join(" "),
        example: example_of(schema, schemas),
        required: false,
        kind,
    }
}

/// Words that are not written as they are spoken.
const WRITTEN: [(&str, &str); 10] = [
    ("dns", "DNS"),
    ("mac", "MAC"),
    ("mtu", "MTU"),
    ("ntp", "NTP"),
    ("raid", "RAID"),
    ("ssh", "SSH"),
    ("url", "URL"),
    ("vlan", "VLAN"),
    ("oobe", "OOBE"),
    ("pe", "PE"),
];

/// A key in words.
fn label(key: &str) -> String {
    let written = |word: &str| WRITTEN.iter().find(|(plain, _)| *plain == word).map(|(_, written)| *written);
    let words: Vec<&str> = key.split('_').map(|word| written(word).unwrap_or(word)).collect();
    let words = words.join(" ");
    let first = words.chars().next().map(|first| first.to_ascii_uppercase());
    first.into_iter().chain(words.chars().skip(1)).collect()
}

fn help(schema: &RefOr<Schema>) -> Option<&str> {
    match schema {
        RefOr::Ref(reference) => Some(reference.description.as_str()),
        RefOr::T(Schema::Object(object)) => object.description.as_deref(),
        RefOr::T(Schema::Array(array)) => array.description.as_deref(),
        RefOr::T(Schema::OneOf(one)) => {
            let of_items = || one.items.iter().find_map(|item| help(item).filter(|help| !help.is_empty()));
            one.description.as_deref().or_else(of_items)
        }
        RefOr::T(_) => None,
    }
}

/// The example that a key or its type has; the first of the words that it may be.
fn example_of(schema: &RefOr<Schema>, schemas: &Schemas) -> Option<Value> {
    match schema {
        RefOr::Ref(reference) => example_of(target(&reference.ref_location, schemas)?, schemas),
        RefOr::T(Schema::Object(object)) => {
            let first = || object.enum_values.as_ref().and_then(|words| words.first()).cloned();
            object.example.clone().or_else(first)
        }
        RefOr::T(Schema::Array(array)) => array.example.clone(),
        RefOr::T(Schema::OneOf(one)) => {
            let own = one.example.clone();
            own.or_else(|| {
                one.items.iter().filter(|item| !is_null(item)).find_map(|item| example_of(item, schemas))
            })
        }
        RefOr::T(_) => None,
    }
}

fn target<'s>(location: &str, schemas: &'s Schemas) -> Option<&'s RefOr<Schema>> {
    schemas.get(location.rsplit('/').next()?)
}

fn is_null(schema: &RefOr<Schema>) -> bool {
    matches!(schema, RefOr::T(Schema::Object(object)) if is(object, &Type::Null))
}

fn is(object: &Object, wanted: &Type) -> bool {
    match &object.schema_type {
        SchemaType::Type(one) => one == wanted,
        SchemaType::Array(several) => several.contains(wanted),
        SchemaType::AnyValue => false,
    }
}

fn kind(key: &str, schema: &RefOr<Schema>, schemas: &Schemas) -> Kind {
    match schema {
        RefOr::Ref(reference) if reference.ref_location.ends_with("/AnswerKind") => Kind::Answer,
        RefOr::Ref(reference) => {
            target(&reference.ref_location, schemas).map_or(Kind::Text, |target| kind(key, target, schemas))
        }
        RefOr::T(Schema::Object(object)) => of_object(key, object, schemas),
        RefOr::T(Schema::Array(array)) => match &array.items {
            ArrayItems::RefOrSchema(item) => match kind(key, item, schemas) {
                Kind::Table { fields } => Kind::Listed { one: one(item), fields },
                _ => Kind::List,
            },
            ArrayItems::False => Kind::List,
        },
        RefOr::T(Schema::OneOf(one)) => {
            let said: Vec<_> = one.items.iter().filter(|item| !is_null(item)).collect();
            match said.as_slice() {
                [only] => kind(key, only, schemas),
                // The only kind of value besides that is one of several forms.
                _ if key == "encrypt" => Kind::Passphrase,
                _ => Kind::Password,
            }
        }
        RefOr::T(_) => Kind::Text,
    }
}

/// What one of several is called, by the name of its type: `DiskMatch` is a disk.
fn one(each: &RefOr<Schema>) -> String {
    let RefOr::Ref(reference) = each else { return "one".into() };
    let name = reference.ref_location.rsplit('/').next().unwrap_or_default();
    let name = name.split('_').next().unwrap_or_default();
    name.trim_end_matches("Match").to_lowercase()
}

fn of_object(key: &str, object: &Object, schemas: &Schemas) -> Kind {
    if let Some(words) = &object.enum_values {
        let words = words.iter().filter_map(|word| word.as_str().map(str::to_owned));
        return Kind::Choice { choices: words.collect() };
    }
    if let Some(AdditionalProperties::RefOr(each)) = object.additional_properties.as_deref() {
        let of = match kind(key, each, schemas) {
            Kind::Text => Kind::LongText,
            other => other,
        };
        let one = if of == Kind::LongText { "script".into() } else { one(each) };
        return Kind::Named { one, of: Box::new(of) };
    }
    if is(object, &Type::Object) {
        let field = |(key, schema): (&String, &RefOr<Schema>)| Field {
            required: object.required.contains(key),
            ..field(key, schema, schemas)
        };
        let fields = object.properties.iter().map(field).collect();
        return Kind::Table { fields };
    }
    if is(object, &Type::Boolean) {
        return Kind::YesNo;
    }
    if is(object, &Type::Integer) { Kind::Number } else { Kind::Text }
}

/// Parts in the formats of installers: each has places of its own.
fn formats() -> Kind {
    let families =
        [Family::Preseed, Family::Kickstart, Family::Autoinstall, Family::CloudConfig, Family::UnattendedXml];
    let long = |key: &str, help: &str| Field {
        key: key.into(),
        label: label(key),
        help: help.into(),
        example: None,
        required: false,
        kind: Kind::LongText,
    };
    let of = |family: Family| {
        let fragments = places(family).iter().map(|place| long(place, "")).collect();
        let fields = vec![
            Field {
                kind: Kind::Table { fields: fragments },
                ..long("fragments", "Texts that are put in at named places.")
            },
            long("template", "The whole file; {{ generated }} is what is written otherwise."),
        ];
        Field {
            key: family.as_str().into(),
            label: family.as_str().into(),
            help: String::new(),
            example: None,
            required: false,
            kind: Kind::Table { fields },
        }
    };
    Kind::Table { fields: families.map(of).into() }
}
