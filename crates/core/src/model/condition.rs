//! Conditions on what is known of a machine: what a survey measured, and what people said of it.
//!
//! The syntax is Jinja's, as in menus: `memory_gib >= 256 and disks | length > 2 and 'kiosk' in labels`. A condition is taken
//! apart at its outermost `and`, so that it can be said which part does not hold.

use std::{
    fmt,
    sync::{Arc, LazyLock},
};

use minijinja::{Environment, Expression, Value, value::Object};

use crate::{
    base::{Fault, template, template::Statements},
    model::{
        job::JobState, location::Location, machine::Machine, subnet::Subnet, survey::SurveyRecord,
        values::TemplateError,
    },
};

/// Steps that a condition may take on one machine.
const FUEL: u64 = 20_000;
/// Longest condition, in characters.
const MOST_TEXT: usize = 2000;

/// What conditions may name. The facts themselves have the names that the API gives them.
pub const NAMES: [&str; 40] = [
    "name",
    "mac",
    "macs",
    "labels",
    "details",
    "subnet",
    "surveyed",
    "burn_in",
    "vendor",
    "product",
    "serial",
    "uuid",
    "sku",
    "family",
    "cores",
    "sockets",
    "threads",
    "memory_gib",
    "disks_gib",
    "failing_disks",
    "boot_mode",
    "secure_boot",
    "switch",
    "port",
    "found",
    "system",
    "board",
    "chassis",
    "firmware",
    "start",
    "cpu",
    "memory",
    "disks",
    "nics",
    "devices",
    "gpus",
    "tpm",
    "has_bmc",
    "bmc",
    "location",
];

static LANGUAGE: LazyLock<Environment<'static>> = LazyLock::new(|| template::environment(FUEL));

/// A condition, compiled once.
#[derive(Debug, Clone)]
pub struct FactCondition {
    text: String,
    parts: Vec<Part>,
}

#[derive(Debug, Clone)]
struct Part {
    text: String,
    expression: Arc<Expression<'static, 'static>>,
}

impl PartialEq for FactCondition {
    fn eq(&self, other: &Self) -> bool {
        self.text == other.text
    }
}

/// What is known of one machine or newcomer.
#[derive(Debug, Clone, Default)]
pub struct Known {
    /// The machine, if somebody registered it.
    pub machine: Option<Arc<Machine>>,
    /// Its latest survey.
    pub survey: Option<Arc<SurveyRecord>>,
    /// The subnet that it boots on, where that is known.
    pub subnet: Option<Arc<Subnet>>,
    /// Where the switch's port is that it is plugged into, if that is on record.
    pub location: Option<Arc<Location>>,
    /// How its last burn-in is, if it ever had one.
    pub burn_in: Option<JobState>,
}

/// A value of what is known of a machine, as in `memory_gib` or `disks | length`, compiled once.
#[derive(Debug, Clone)]
pub struct FactExpression(Part);

impl FactExpression {
    /// Reads an expression.
    ///
    /// # Errors
    /// What is wrong with it, and where in it; the place is left to the caller.
    pub fn new(text: &str) -> Result<Self, Fault> {
        read(text).map(Self)
    }

    /// Its value for a machine; nothing where that is not known of it.
    #[must_use]
    pub fn value(&self, known: &Known) -> Option<FactValue> {
        let value = self.0.expression.eval(Value::from_object(known.clone())).ok()?;
        (!value.is_undefined() && !value.is_none()).then_some(FactValue(value))
    }
}

/// A value: numbers are ordered as such. As lists show it, members of lists are beside each other.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct FactValue(Value);

impl fmt::Display for FactValue {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&value_text(&self.0))
    }
}

fn value_text(value: &Value) -> String {
    match value.as_str() {
        Some(text) => text.into(),
        None if value.kind() == minijinja::value::ValueKind::Seq => {
            let members = value.try_iter().into_iter().flatten();
            members.map(|one| value_text(&one)).collect::<Vec<_>>().join(", ")
        }
        None => value.to_string(),
    }
}

/// Reads the whole of a condition or an expression.
fn read(text: &str) -> Result<Part, Fault> {
    let fault = |what: String| Fault { place: String::new(), what, fix: fix() };
    if text.trim().is_empty() || text.chars().count() > MOST_TEXT {
        return Err(fault(format!("a condition has between 1 and {MOST_TEXT} characters")));
    }
    let whole = Part::new(text.trim()).map_err(|error| fault(error.to_string()))?;
    let mut named: Vec<String> = whole.expression.undeclared_variables(false).into_iter().collect();
    named.sort();
    let unknown: Vec<String> =
        named.into_iter().filter(|name| !NAMES.contains(&name.as_str()) && name != "range").collect();
    if unknown.is_empty() {
        return Ok(whole);
    }
    Err(fault(format!("'{text}' names {}, which nothing is called", unknown.join(", "))))
}

impl FactCondition {
    /// Reads a condition.
    ///
    /// # Errors
    /// What is wrong with it, and where in it; the place is left to the caller.
    pub fn new(text: &str) -> Result<Self, Fault> {
        let whole = read(text)?;
        // What cannot be read by itself, as of a choice between two values, belongs together.
        let parts: Option<Vec<Part>> =
            conjuncts(text.trim()).into_iter().map(|part| Part::new(part).ok()).collect();
        Ok(Self { text: text.trim().into(), parts: parts.unwrap_or_else(|| vec![whole]) })
    }

    /// As it was entered.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.text
    }

    /// Whether it names something.
    #[must_use]
    pub fn names(&self, name: &str) -> bool {
        self.parts.iter().any(|part| part.expression.undeclared_variables(false).contains(name))
    }

    /// Whether all of it holds. What cannot be said of a machine, because it was never surveyed or lacks that part, does not
    /// hold.
    #[must_use]
    pub fn holds(&self, known: &Known) -> bool {
        let values = Value::from_object(known.clone());
        self.parts.iter().all(|part| part.holds(&values))
    }

    /// The parts of it that do not hold, each with why, where there is more to say than that.
    #[must_use]
    pub fn failing(&self, known: &Known) -> Vec<(&str, Option<String>)> {
        let values = Value::from_object(known.clone());
        let failing = self.parts.iter().filter(|part| !part.holds(&values));
        failing.map(|part| (part.text.as_str(), part.trouble(&values))).collect()
    }
}

impl Part {
    fn new(text: &str) -> Result<Self, TemplateError> {
        template::expression(&LANGUAGE, text, Statements::Conditions)
            .map(|expression| Self { text: text.into(), expression: Arc::new(expression) })
            .map_err(|error| TemplateError::new(text, &error))
    }

    fn holds(&self, values: &Value) -> bool {
        self.expression.eval(values).is_ok_and(|value| value.is_true())
    }

    fn trouble(&self, values: &Value) -> Option<String> {
        self.expression.eval(values).err().map(|_| "not known of this machine".into())
    }
}

fn fix() -> String {
    format!("Write it as in memory_gib >= 256 and disks | length > 2. There are: {}.", NAMES.join(", "))
}

/// The parts between the outermost `and`s: those that are neither in brackets nor in quotes.
fn conjuncts(text: &str) -> Vec<&str> {
    let (mut parts, mut from, mut depth) = (Vec::new(), 0, 0_usize);
    let is_word = |character: Option<char>| character.is_some_and(|one| one.is_alphanumeric() || one == '_');
    for (at, character) in template::outside_quotes(text) {
        match character {
            '(' | '[' | '{' => depth += 1,
            ')' | ']' | '}' => depth = depth.saturating_sub(1),
            'a' if depth == 0 && !is_word(text[..at].chars().next_back()) => {
                let after = text[at..].strip_prefix("and").map(|rest| rest.chars().next());
                if after.is_some_and(|after| after.is_some() && !is_word(after)) {
                    parts.push(text[from..at].trim());
                    from = at + 3;
                }
            }
            _ => {}
        }
    }
    parts.push(text[from..].trim());
    parts
}

impl Object for Known {
    fn get_value(self: &Arc<Self>, key: &Value) -> Option<Value> {
        let key = key.as_str()?;
        self.of_record(key).or_else(|| self.of_facts(key))
    }
}

impl Known {
    /// What people said of it, and where it is.
    fn of_record(&self, key: &str) -> Option<Value> {
        let machine = self.machine.as_deref();
        Some(match key {
            "name" => Value::from(machine.map_or("", |machine| machine.name.as_str())),
            "labels" => {
                Value::from_serialize(machine.map(|machine| machine.labels.as_slice()).unwrap_or_default())
            }
            "details" => Value::from_object(Details(self.machine.clone())),
            "subnet" => Value::from(self.subnet.as_ref().map_or("", |subnet| subnet.name.as_str())),
            "location" => Value::from_serialize(self.location.as_deref()?),
            "burn_in" => Value::from(self.burn_in.map(JobState::as_str).unwrap_or_default()),
            "surveyed" => Value::from(self.survey.is_some()),
            "mac" => {
                let first = machine.and_then(|machine| machine.macs.first().copied());
                let mac = self.survey.as_ref().map(|survey| survey.mac).or(first);
                Value::from(mac.map(|mac| mac.to_string()).unwrap_or_default())
            }
            "macs" => {
                let own = machine.map(|machine| machine.macs.clone()).unwrap_or_default();
                let measured = self.survey.iter().flat_map(|survey| survey.macs());
                let mut all: Vec<String> =
                    own.into_iter().chain(measured).map(|mac| mac.to_string()).collect();
                all.sort();
                all.dedup();
                Value::from(all)
            }
            _ => return None,
        })
    }

    /// What was measured; nothing of what never was.
    fn of_facts(&self, key: &str) -> Option<Value> {
        let survey = self.survey.as_deref()?;
        let facts = &survey.survey.facts;
        let text = |text: &Option<String>| Value::from(text.as_deref().unwrap_or_default());
        let neighbour = || {
            let of = |nic: &&lastmile_survey::facts::Nic| nic.neighbour.is_some();
            let booted = facts.nics.iter().find(|nic| nic.mac == survey.mac).filter(of);
            booted.or_else(|| facts.nics.iter().find(of))?.neighbour.as_ref()
        };
        Some(match key {
            "vendor" => text(&facts.system.vendor),
            "product" => text(&facts.system.product),
            "serial" => text(&facts.system.serial),
            "sku" => text(&facts.system.sku),
            "family" => text(&facts.system.family),
            "uuid" => Value::from(facts.system.uuid.map(|uuid| uuid.to_string()).unwrap_or_default()),
            "cores" => Value::from(facts.cpu.cores),
            "sockets" => Value::from(facts.cpu.sockets),
            "threads" => Value::from(facts.cpu.threads),
            "memory_gib" => Value::from(facts.memory.mib / 1024),
            "disks_gib" => Value::from(facts.disks.iter().map(|disk| disk.size).sum::<u64>() >> 30),
            "boot_mode" => Value::from(facts.start.mode.map(|mode| mode.to_string()).unwrap_or_default()),
            "secure_boot" => Value::from(facts.start.secure_boot == Some(true)),
            "switch" => Value::from(neighbour().map_or_else(String::new, |neighbour| {
                neighbour.system_name.clone().unwrap_or_else(|| neighbour.chassis.to_string())
            })),
            "port" => {
                Value::from(neighbour().map(|neighbour| neighbour.port.to_string()).unwrap_or_default())
            }
            "found" => Value::from_serialize(&survey.survey.found),
            "system" => Value::from_serialize(&facts.system),
            "board" => Value::from_serialize(&facts.board),
            "chassis" => Value::from_serialize(&facts.chassis),
            "firmware" => Value::from_serialize(&facts.firmware),
            "start" => Value::from_serialize(facts.start.clone()),
            "cpu" => Value::from_serialize(&facts.cpu),
            "memory" => Value::from_serialize(&facts.memory),
            "failing_disks" => Value::from(facts.failing_disks().count()),
            "bmc" => facts.bmc.as_ref().map_or(Value::from(()), Value::from_serialize),
            "disks" => Value::from_serialize(&facts.disks),
            "nics" => Value::from_serialize(&facts.nics),
            "devices" => Value::from_serialize(&facts.devices),
            "gpus" => Value::from(gpus(facts)),
            "tpm" => Value::from_serialize(&facts.tpm),
            "has_bmc" => Value::from(facts.has_bmc),
            _ => return None,
        })
    }
}

/// The names of what draws pictures, or could (PCI base class 3); by its numbers where nobody has named it.
fn gpus(facts: &lastmile_survey::facts::Facts) -> Vec<String> {
    let is_display = |device: &&lastmile_survey::facts::PciDevice| device.class >> 8 == 0x03;
    let name = |device: &lastmile_survey::facts::PciDevice| {
        let numbers = || format!("{:04x}:{:04x}", device.vendor, device.device);
        device.name.clone().unwrap_or_else(numbers)
    };
    facts.devices.iter().filter(is_display).map(name).collect()
}

/// Details are asked for by names that not every machine has: one that is missing is empty.
#[derive(Debug)]
struct Details(Option<Arc<Machine>>);

impl Object for Details {
    fn get_value(self: &Arc<Self>, key: &Value) -> Option<Value> {
        let known = self.0.as_ref().and_then(|machine| machine.details.get(key.as_str()?));
        Some(Value::from(known.map_or("", String::as_str)))
    }
}

#[cfg(test)]
mod tests {
    use jiff::Timestamp;
    use lastmile_survey::{
        facts::{Bmc, Disk, Facts},
        messages::Survey,
    };
    use uuid::Uuid;

    use super::*;

    fn known(disks: u64) -> Known {
        let mut facts = Facts::default();
        facts.system.product = Some("MS-20".into());
        facts.memory.mib = 256 * 1024;
        facts.bmc = Some(Bmc { address: Some([192, 0, 2, 9].into()), ..Bmc::default() });
        facts.disks =
            (0..disks).map(|number| Disk { name: format!("sd{number}"), ..Disk::default() }).collect();
        let survey = Survey { facts, ..Survey::default() };
        let mac = "02:00:5e:00:53:01".parse().unwrap();
        let record = SurveyRecord::of_report(Uuid::nil(), mac, None, survey, None, Timestamp::UNIX_EPOCH);
        let location = Location {
            switch: "sw-tern-1".into(),
            port: "Ethernet1/1".into(),
            hall: String::new(),
            row: String::new(),
            rack: "r12".into(),
            unit: "4".into(),
        };
        Known { survey: Some(Arc::new(record)), location: Some(Arc::new(location)), ..Known::default() }
    }

    fn condition(text: &str) -> FactCondition {
        FactCondition::new(text).unwrap_or_else(|fault| panic!("{text}: {fault}"))
    }

    #[test]
    fn what_ends_before_its_text_does_is_a_mistake() {
        // The engine has these end, and gives up on what follows.
        for text in ["0}}I0", "cores -}} 1", "1) }} 2", "'a' }}", "cores ]", "(1)}}("] {
            assert!(FactCondition::new(text).is_err(), "{text}");
            assert!(FactExpression::new(text).is_err(), "{text}");
        }
        assert!(FactCondition::new("{'a': {'b': cores}}.a.b == 1 or vendor == '}}'").is_ok());
    }

    #[test]
    fn a_condition_holds_by_what_was_measured_and_said() {
        let large = condition("memory_gib >= 256 and disks | length > 2 and product == 'MS-20'");
        assert!(large.holds(&known(3)));
        assert!(!large.holds(&known(2)));
        assert!(
            condition("failing_disks == 0 and bmc.address == '192.0.2.9' and not bmc.mac").holds(&known(2))
        );
        assert_eq!(large.failing(&known(2)), [("disks | length > 2", None)]);
        // Of what nothing is known nothing holds, whatever is asked.
        for text in ["memory_gib >= 0", "memory_gib < 1", "not has_bmc", "disks | length == 0"] {
            assert!(!condition(text).holds(&Known::default()), "{text}");
        }
        assert_eq!(condition("surveyed and name == ''").failing(&Known::default()), [("surveyed", None)]);
        assert_eq!(
            condition("cores > 1").failing(&Known::default()),
            [("cores > 1", Some("not known of this machine".into()))]
        );
    }

    #[test]
    fn a_value_is_read_for_a_column_of_a_list() {
        let text = |text: &str, known: &Known| {
            FactExpression::new(text).unwrap().value(known).map(|value| value.to_string())
        };
        let machine = known(2);
        assert_eq!(text("product", &machine).as_deref(), Some("MS-20"));
        assert_eq!(text("disks | length", &machine).as_deref(), Some("2"));
        assert_eq!(text("disks | map(attribute='name')", &machine).as_deref(), Some("sd0, sd1"));
        assert_eq!(text("memory_gib", &Known::default()), None);
        assert!(FactExpression::new("memory_gb").unwrap_err().what.contains("memory_gb"));
    }

    #[test]
    fn it_is_taken_apart_where_it_can_be() {
        let parts =
            |text: &str| condition(text).parts.iter().map(|part| part.text.clone()).collect::<Vec<_>>();
        assert_eq!(
            parts("name and (cores > 1 and sockets > 1)and serial == 'a and b'"),
            ["name", "(cores > 1 and sockets > 1)", "serial == 'a and b'"]
        );
        assert_eq!(parts("details.andover and details.rack_and == 'x\\' and y'").len(), 2);
        // Half of a choice between two values is nothing.
        assert_eq!(parts("cores > 1 if name and surveyed else true").len(), 1);
    }

    #[test]
    fn what_is_wrong_is_said() {
        for (text, said) in [
            ("memory_gb > 2", "names memory_gb, which nothing is called"),
            ("cores >", "cores >"),
            ("", "between 1 and 2000"),
            ("{% for x in y %}", "{%"),
        ] {
            let fault = FactCondition::new(text).unwrap_err();
            assert!(fault.what.contains(said), "{text}: {}", fault.what);
            assert!(fault.fix.contains("memory_gib"));
        }
    }

    #[test]
    fn every_name_is_known_of_a_machine_that_was_surveyed() {
        for name in NAMES {
            let value = Arc::new(known(1)).get_value(&Value::from(name));
            assert!(value.is_some_and(|value| !value.is_undefined()), "{name}");
        }
    }
}
