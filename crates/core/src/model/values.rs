//! What texts and conditions may name: the values of one machine on its way to one image.
//!
//! `{{ name }}` in a parameter, an entry's text or a menu's title; `'kiosk' in labels` in a condition. The syntax is
//! Jinja's, and a name that is not there is an error, never an empty text.

use std::{
    collections::BTreeMap,
    sync::{Arc, LazyLock},
};

use lastmile_formats::{architecture::Architecture, mac::Mac};
use minijinja::{Environment, Error, ErrorKind, Expression, Value, context, value::Object};

use crate::base::{
    Fault, template,
    template::{Statements, is_template},
};

/// Longest text that a template may give.
const MOST_TEXT: usize = 4096;
/// Steps that a template or condition may take: a loop in one of them ends here.
const FUEL: u64 = 20_000;

static TEXTS: LazyLock<Environment<'static>> = LazyLock::new(|| template::environment(FUEL));

/// The values of one machine, in the form that texts and conditions read.
#[derive(Debug)]
pub struct Bound(Value);

impl Bound {
    /// A text with its values put in.
    ///
    /// # Errors
    /// What is wrong with it, with line and column.
    pub fn fill(&self, text: &str) -> Result<String, TemplateError> {
        if !is_template(text) {
            return Ok(text.into());
        }
        template::render(&TEXTS, text, &self.0, Statements::Conditions, MOST_TEXT)
            .map_err(|error| TemplateError::new(text, &error))
    }

    /// The values, for templates of other environments.
    #[must_use]
    pub fn value(&self) -> Value {
        self.0.clone()
    }
}

impl From<Values> for Bound {
    fn from(values: Values) -> Self {
        Self(Value::from_object(values))
    }
}

/// The values of one machine.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Values {
    /// The machine's name; its MAC address with hyphens for one that nobody registered.
    pub name: String,
    /// The MAC address it boots from.
    pub mac: Option<Mac>,
    /// The address lent to it.
    pub address: Option<std::net::Ipv4Addr>,
    /// Its subnet's mask, router, first name server, domain and VLAN.
    pub netmask: Option<std::net::Ipv4Addr>,
    /// Its subnet's router.
    pub router: Option<std::net::Ipv4Addr>,
    /// Its subnet's first name server.
    pub dns: Option<std::net::Ipv4Addr>,
    /// Its subnet's domain.
    pub domain: Option<String>,
    /// Its subnet's VLAN.
    pub vlan: Option<u16>,
    /// Its firmware's architecture, where that is known.
    pub architecture: Option<Architecture>,
    /// Its labels.
    pub labels: Vec<String>,
    /// Its details.
    pub details: BTreeMap<String, String>,
    /// It stands for any machine: a detail that it lacks is as some machine has it.
    pub is_example: bool,
    /// The service's address on its wire.
    pub service: String,
    /// URL below which the image's files are, without a closing `/`.
    pub image_url: Option<String>,
    /// URL of the image's ISO.
    pub image_iso: Option<String>,
    /// What was answered to questions, by their names. `None` where it is not known yet which there are: then any name
    /// is taken.
    pub asked: Option<BTreeMap<String, String>>,
}

impl Values {
    /// Values as a machine might have them: what texts are checked against before they are saved.
    #[must_use]
    pub fn example() -> Self {
        let address = |last| Some(std::net::Ipv4Addr::new(192, 0, 2, last));
        Self {
            name: "auklet-chart".into(),
            mac: Mac::new([0, 0, 0x5e, 0, 0x53, 1]).ok(),
            address: address(50),
            netmask: Some(std::net::Ipv4Addr::new(255, 255, 255, 0)),
            router: address(1),
            dns: address(3),
            domain: Some("gannet.example".into()),
            vlan: Some(30),
            architecture: Some(Architecture::UefiX64),
            labels: vec!["chart".into()],
            details: BTreeMap::new(),
            is_example: true,
            service: "192.0.2.2".into(),
            image_url: Some("http://192.0.2.2/boot/00-00-5e-00-53-01/tidewrack-12/r1".into()),
            image_iso: Some(
                "http://192.0.2.2/boot/00-00-5e-00-53-01/tidewrack-12/r1/tidewrack-12.iso".into(),
            ),
            asked: Some(BTreeMap::new()),
        }
    }

    /// A text with its values put in.
    ///
    /// # Errors
    /// What is wrong with it, with line and column.
    pub fn fill(&self, text: &str) -> Result<String, TemplateError> {
        Bound::from(self.clone()).fill(text)
    }
}

/// Made when it is asked for, as most texts name few of them. A value that is not known is empty: only a name that
/// never exists is a mistake.
impl Object for Values {
    fn get_value(self: &Arc<Self>, key: &Value) -> Option<Value> {
        let address = |address: Option<std::net::Ipv4Addr>| {
            address.map_or_else(|| Value::from(""), |address| Value::from(address.to_string()))
        };
        let mac = |form: fn(Mac) -> String| Value::from(self.mac.map(form).unwrap_or_default());
        let text = |text: &Option<String>| Value::from(text.as_deref().unwrap_or_default());
        Some(match key.as_str()? {
            "name" => Value::from(self.name.as_str()),
            "mac" => mac(|mac| mac.to_string()),
            "mac_dashed" => mac(Mac::dashed),
            "mac_bare" => mac(|mac| mac.dashed().replace('-', "")),
            // As PXELINUX gives it to kernels: the hardware type before the address.
            "bootif" => mac(|mac| format!("01-{}", mac.dashed())),
            "address" => address(self.address),
            "netmask" => address(self.netmask),
            "router" => address(self.router),
            "dns" => address(self.dns),
            "domain" => text(&self.domain),
            "vlan" => Value::from(self.vlan.map_or_else(String::new, |vlan| vlan.to_string())),
            "nic" => Value::from(self.details.get("nic").map_or("", String::as_str)),
            "architecture" => Value::from(
                self.architecture.map_or_else(String::new, |architecture| architecture.to_string()),
            ),
            "labels" => Value::from_serialize(&self.labels),
            "details" => {
                Value::from_object(Details { known: self.details.clone(), is_example: self.is_example })
            }
            "service" => Value::from(self.service.as_str()),
            "serial" => Value::from(self.details.get("serial").map_or("", String::as_str)),
            "asked" => Value::from_object(Asked(self.asked.clone())),
            "image" => context! { url => text(&self.image_url), iso => text(&self.image_iso) },
            _ => return None,
        })
    }
}

/// Details are asked for by names that not every machine has: one that is missing is empty, unless any machine is meant.
#[derive(Debug)]
struct Details {
    known: BTreeMap<String, String>,
    is_example: bool,
}

impl Object for Details {
    fn get_value(self: &Arc<Self>, key: &Value) -> Option<Value> {
        let key = key.as_str()?;
        // As good as any for a number, a name and a part of an address.
        let lacking = if self.is_example { "1" } else { "" };
        Some(Value::from(self.known.get(key).map_or(lacking, String::as_str)))
    }
}

/// What was asked: a name that no question has is a mistake, unless it is not known yet which there are.
#[derive(Debug)]
struct Asked(Option<BTreeMap<String, String>>);

impl Object for Asked {
    fn get_value(self: &Arc<Self>, key: &Value) -> Option<Value> {
        let key = key.as_str()?;
        match &self.0 {
            Some(answers) => answers.get(key).map(|answer| Value::from(answer.as_str())),
            // As good as any for a number, a name and a part of an address.
            None => Some(Value::from("1")),
        }
    }
}

/// A text that may name values, compiled once.
#[derive(Debug, Clone)]
pub struct Template {
    text: String,
    /// `None` where it names no value.
    compiled: Option<Arc<Environment<'static>>>,
}

impl PartialEq for Template {
    fn eq(&self, other: &Self) -> bool {
        self.text == other.text
    }
}

impl Template {
    /// A text that was checked by [`Values::fill`]. One that cannot be compiled stands for itself.
    #[must_use]
    pub fn new(text: &str) -> Self {
        let compiled = is_template(text).then(|| {
            template::check(&TEXTS, text, Statements::Conditions).ok()?;
            let mut environment = TEXTS.clone();
            environment.add_template_owned("", text.to_owned()).ok().map(|()| Arc::new(environment))
        });
        Self { text: text.into(), compiled: compiled.flatten() }
    }

    /// As it was entered.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.text
    }

    /// The text with its values put in; as it was entered where that fails on these.
    #[must_use]
    pub fn fill(&self, values: &Bound) -> String {
        let compiled = self.compiled.as_ref().and_then(|compiled| compiled.get_template("").ok());
        let filled = compiled.and_then(|compiled| {
            template::write(|out| compiled.render_captured_to(&values.0, out).map(drop), MOST_TEXT).ok()
        });
        filled.unwrap_or_else(|| self.text.clone())
    }
}

/// What is wrong with a text or condition.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("'{text}': {reason}")]
pub struct TemplateError {
    text: String,
    reason: String,
    /// It is wrong for these values, and may be right for others.
    of_values: bool,
}

/// What texts may name, for whoever named something else.
pub const VALUES_FIX: &str = "Values are: name, mac, mac_dashed, mac_bare, bootif, address, netmask, router, dns, domain, vlan, nic, architecture, labels, details.NAME, serial, service, image.url, image.iso; in answers also asked.NAME.";

impl TemplateError {
    pub(crate) fn new(text: &str, error: &Error) -> Self {
        let what = error
            .detail()
            .map_or_else(|| error.kind().to_string(), |detail| format!("{} ({detail})", error.kind()));
        let reason = match error.range() {
            Some(range) => {
                let part = text.get(range.clone()).unwrap_or_default();
                format!("{what} at column {}, '{part}'", range.start + 1)
            }
            None => what,
        };
        Self { text: text.into(), reason, of_values: error.kind() == ErrorKind::InvalidOperation }
    }

    /// As a fault of an input, without its place.
    #[must_use]
    pub fn fault(&self) -> Fault {
        Fault { place: String::new(), what: self.to_string(), fix: VALUES_FIX.into() }
    }
}

/// A condition on the values of a machine, compiled once.
#[derive(Debug, Clone)]
pub struct Condition {
    text: String,
    expression: Arc<Expression<'static, 'static>>,
}

impl PartialEq for Condition {
    fn eq(&self, other: &Self) -> bool {
        self.text == other.text
    }
}

impl Condition {
    /// Compiles a condition and tries it on example values.
    ///
    /// # Errors
    /// What is wrong with it, with line and column.
    pub fn new(text: &str) -> Result<Self, TemplateError> {
        let expression = template::expression(&TEXTS, text, Statements::Conditions)
            .map_err(|error| TemplateError::new(text, &error))?;
        let condition = Self { text: text.into(), expression: Arc::new(expression) };
        match condition.try_on(&Values::example().into()) {
            // What only these values do not fit may fit a machine's.
            Err(error) if !error.of_values => Err(error),
            _ => Ok(condition),
        }
    }

    /// As it was entered.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.text
    }

    fn try_on(&self, values: &Bound) -> Result<bool, TemplateError> {
        let value =
            self.expression.eval(&values.0).map_err(|error| TemplateError::new(&self.text, &error))?;
        if value.is_undefined() {
            let reason = "there is no value of that name".into();
            return Err(TemplateError { text: self.text.clone(), reason, of_values: false });
        }
        Ok(value.is_true())
    }

    /// Whether it holds; a condition that fails on some machine's values does not hold.
    #[must_use]
    pub fn holds(&self, values: &Bound) -> bool {
        self.try_on(values).unwrap_or(false)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_are_filled_and_mistakes_carry_their_place() {
        let values = Values::example();
        let fill = |text: &str| values.fill(text);
        assert_eq!(fill("ip={{ address }}::{{ router }}").unwrap(), "ip=192.0.2.50::192.0.2.1");
        assert_eq!(
            fill("BOOTIF={{ bootif }} {{ mac_bare }}").unwrap(),
            "BOOTIF=01-00-00-5e-00-53-01 00005e005301"
        );
        assert_eq!(fill("{{ name|upper }}{{ details.rack }}").unwrap(), "AUKLET-CHART1");
        let one = Values { is_example: false, ..Values::example() };
        assert_eq!(one.fill("{{ details.rack }}-{{ name }}").unwrap(), "-auklet-chart");
        let error = fill("ip={{ adress }}").unwrap_err().to_string();
        assert!(error.contains("column 7") && error.contains("'adress'"), "{error}");
        assert!(fill("{{ name ").unwrap_err().to_string().contains("syntax error"));
        assert!(
            fill("{% for a in range(100000) %}{% for b in range(100000) %}x{% endfor %}{% endfor %}")
                .is_err()
        );
        // What stands in a value is not read again.
        let odd = Values { name: "{{ mac }}".into(), ..Values::example() };
        assert_eq!(odd.fill("{{ name }}").unwrap(), "{{ mac }}");
    }

    #[test]
    fn conditions_hold_for_whom_they_are_meant() {
        let mut values = Values::example();
        let holds = |text: &str, values: &Values| Condition::new(text).unwrap().holds(&values.clone().into());
        assert!(holds("'chart' in labels and architecture == 'uefi-x64'", &values));
        assert!(!holds("architecture == 'bios'", &values));
        assert!(!holds("details.memory_gib|int >= 16", &values));
        values.details.insert("memory_gib".into(), "32".into());
        assert!(holds("details.memory_gib|int >= 16", &values));
        assert!(Condition::new("lables").is_err() && Condition::new("a ==").is_err());
    }
}
