//! Rules, of whom they propose something, and each time that one changed a machine.

use std::collections::BTreeMap;

use diesel::{dsl::max, prelude::*};
use jiff::Timestamp;
use lastmile_core::model::{
    condition::FactCondition,
    machine::DefaultBoot,
    rule::{Proposal, Rule, RuleUse},
};
use lastmile_formats::mac::Mac;

use crate::{
    StoreError, Tx,
    schema::{proposal, rule, rule_use},
    value::{self, Row},
};

#[derive(Queryable, Selectable, Insertable, AsChangeset)]
#[diesel(table_name = rule, treat_none_as_null = true)]
struct RuleRow {
    name: String,
    rank: i32,
    mode: String,
    condition: String,
    labels: String,
    details: String,
    location: bool,
    machine_name: Option<String>,
    address: Option<String>,
    default_boot: Option<String>,
    arm: bool,
    image: Option<String>,
    answers: Option<String>,
    hourly_limit: i32,
    jobs: String,
}

#[derive(Queryable, Selectable, Insertable, AsChangeset)]
#[diesel(table_name = proposal, treat_none_as_null = true)]
struct ProposalRow {
    mac: String,
    since: i64,
    declined: Option<String>,
}

#[derive(Queryable, Selectable, Insertable)]
#[diesel(table_name = rule_use)]
struct RuleUseRow {
    at: i64,
    rule: String,
    machine: String,
    mac: String,
    counter: Option<i64>,
    changes: String,
    who: Option<String>,
}

/// Which uses of rules are asked for.
#[derive(Debug, Clone, Default)]
pub struct RuleUseFilter {
    /// Only those of this rule.
    pub rule: Option<String>,
    /// Only those of who was started from one of these addresses.
    pub macs: Option<Vec<Mac>>,
    /// At most so many.
    pub limit: i64,
}

fn boot_text(boot: &DefaultBoot) -> String {
    match boot {
        DefaultBoot::LocalDisk => "local-disk".into(),
        DefaultBoot::Menu => "menu".into(),
        DefaultBoot::Ignored => "ignored".into(),
        DefaultBoot::Live(image) => format!("live:{image}"),
    }
}

fn read_boot(read: &Row<'_>, text: &str) -> Result<DefaultBoot, StoreError> {
    match text {
        "local-disk" => Ok(DefaultBoot::LocalDisk),
        "menu" => Ok(DefaultBoot::Menu),
        "ignored" => Ok(DefaultBoot::Ignored),
        other => Ok(DefaultBoot::Live(read.text(other.strip_prefix("live:").unwrap_or(other))?)),
    }
}

impl TryFrom<RuleRow> for Rule {
    type Error = StoreError;

    fn try_from(row: RuleRow) -> Result<Self, StoreError> {
        let read = Row { table: "rule", key: &row.name };
        let condition = FactCondition::new(&row.condition).map_err(|fault| StoreError::Value {
            table: "rule",
            row: row.name.clone(),
            what: fault.what,
        })?;
        Ok(Self {
            rank: row.rank,
            mode: read.name(&row.mode)?,
            condition,
            labels: read.json(&row.labels)?,
            details: read.json(&row.details)?,
            location: row.location,
            machine_name: row.machine_name,
            address: row.address,
            default_boot: row.default_boot.map(|boot| read_boot(&read, &boot)).transpose()?,
            jobs: read.json(&row.jobs)?,
            arm: row.arm,
            image: row.image,
            answers: row.answers,
            hourly_limit: read.count(row.hourly_limit)?,
            name: row.name,
        })
    }
}

impl TryFrom<ProposalRow> for Proposal {
    type Error = StoreError;

    fn try_from(row: ProposalRow) -> Result<Self, StoreError> {
        let read = Row { table: "proposal", key: &row.mac };
        Ok(Self { mac: read.text(&row.mac)?, since: read.time(row.since)?, declined: row.declined })
    }
}

impl TryFrom<RuleUseRow> for RuleUse {
    type Error = StoreError;

    fn try_from(row: RuleUseRow) -> Result<Self, StoreError> {
        let read = Row { table: "rule_use", key: &row.rule };
        Ok(Self {
            at: read.time(row.at)?,
            machine: row.machine,
            mac: read.text(&row.mac)?,
            counter: row.counter,
            changes: read.json(&row.changes)?,
            by: row.who,
            rule: row.rule,
        })
    }
}

impl Tx<'_> {
    /// Adds a rule, or puts it in the place of the one of its name.
    ///
    /// # Errors
    /// What the database refused.
    pub(crate) fn put_rule(&mut self, entity: &Rule) -> Result<(), StoreError> {
        let row = RuleRow {
            name: entity.name.clone(),
            rank: entity.rank,
            mode: entity.mode.as_str().into(),
            condition: entity.condition.as_str().into(),
            labels: value::json(&entity.labels)?,
            details: value::json(&entity.details)?,
            location: entity.location,
            machine_name: entity.machine_name.clone(),
            address: entity.address.clone(),
            default_boot: entity.default_boot.as_ref().map(boot_text),
            arm: entity.arm,
            image: entity.image.clone(),
            answers: entity.answers.clone(),
            hourly_limit: value::count(entity.hourly_limit),
            jobs: value::json(&entity.jobs)?,
        };
        let insert = diesel::insert_into(rule::table).values(&row);
        insert.on_conflict(rule::name).do_update().set(&row).execute(self.connection())?;
        Ok(())
    }

    /// Removes a rule; what it did stays on record.
    ///
    /// # Errors
    /// What the database refused.
    pub(crate) fn remove_rule(&mut self, name: &str) -> Result<(), StoreError> {
        diesel::delete(rule::table.find(name)).execute(self.connection())?;
        Ok(())
    }

    /// Has what a rule did follow it to another name.
    ///
    /// # Errors
    /// What the database refused.
    pub(crate) fn rename_rule_uses(&mut self, old: &str, new: &str) -> Result<(), StoreError> {
        let its = rule_use::table.filter(rule_use::rule.eq(old));
        diesel::update(its).set(rule_use::rule.eq(new)).execute(self.connection())?;
        Ok(())
    }

    pub(crate) fn rules(&mut self) -> Result<Vec<Rule>, StoreError> {
        let rows = rule::table.select(RuleRow::as_select()).load(self.connection())?;
        rows.into_iter().map(Rule::try_from).collect()
    }

    pub(crate) fn put_proposal(&mut self, entity: &Proposal) -> Result<(), StoreError> {
        let row = ProposalRow {
            mac: entity.mac.to_string(),
            since: entity.since.as_millisecond(),
            declined: entity.declined.clone(),
        };
        let insert = diesel::insert_into(proposal::table).values(&row);
        insert.on_conflict(proposal::mac).do_update().set(&row).execute(self.connection())?;
        Ok(())
    }

    pub(crate) fn remove_proposal(&mut self, mac: Mac) -> Result<(), StoreError> {
        diesel::delete(proposal::table.find(mac.to_string())).execute(self.connection())?;
        Ok(())
    }

    pub(crate) fn proposals(&mut self) -> Result<Vec<Proposal>, StoreError> {
        let rows = proposal::table.select(ProposalRow::as_select()).load(self.connection())?;
        rows.into_iter().map(Proposal::try_from).collect()
    }

    pub(crate) fn add_rule_use(&mut self, entity: &RuleUse) -> Result<(), StoreError> {
        let row = RuleUseRow {
            at: entity.at.as_millisecond(),
            rule: entity.rule.clone(),
            machine: entity.machine.clone(),
            mac: entity.mac.to_string(),
            counter: entity.counter,
            changes: value::json(&entity.changes)?,
            who: entity.by.clone(),
        };
        diesel::insert_into(rule_use::table).values(&row).execute(self.connection())?;
        Ok(())
    }

    /// Corrects what a rule is said to have changed.
    ///
    /// # Errors
    /// What the database refused.
    pub(crate) fn set_rule_changes(&mut self, rule_use: &RuleUse) -> Result<(), StoreError> {
        let its = rule_use::rule.eq(&rule_use.rule).and(rule_use::mac.eq(rule_use.mac.to_string()));
        let its = rule_use::table.filter(its.and(rule_use::at.eq(rule_use.at.as_millisecond())));
        let changes = value::json(&rule_use.changes)?;
        diesel::update(its).set(rule_use::changes.eq(changes)).execute(self.connection())?;
        Ok(())
    }

    /// When rules changed machines, the latest first.
    ///
    /// # Errors
    /// What the database refused, or a row that cannot be read.
    pub fn rule_uses(&mut self, filter: &RuleUseFilter) -> Result<Vec<RuleUse>, StoreError> {
        let mut query = rule_use::table.order((rule_use::at.desc(), rule_use::id.desc())).into_boxed();
        if let Some(rule) = &filter.rule {
            query = query.filter(rule_use::rule.eq(rule.clone()));
        }
        if let Some(macs) = &filter.macs {
            query = query.filter(rule_use::mac.eq_any(macs.iter().map(ToString::to_string)));
        }
        let rows = query.limit(filter.limit).select(RuleUseRow::as_select()).load(self.connection())?;
        rows.into_iter().map(RuleUse::try_from).collect()
    }

    /// How many machines a rule changed by itself since then.
    ///
    /// # Errors
    /// What the database refused.
    pub fn rule_uses_since(&mut self, rule: &str, since: Timestamp) -> Result<i64, StoreError> {
        let own = rule_use::rule.eq(rule).and(rule_use::who.is_null());
        let recent = rule_use::table.filter(own.and(rule_use::at.gt(since.as_millisecond())));
        Ok(recent.count().get_result(self.connection())?)
    }

    /// How many machines each rule ever changed, and when it last did.
    ///
    /// # Errors
    /// What the database refused, or a row that cannot be read.
    pub fn rule_totals(&mut self) -> Result<BTreeMap<String, (i64, Timestamp)>, StoreError> {
        let totals = rule_use::table.group_by(rule_use::rule).select((
            rule_use::rule,
            diesel::dsl::count_star(),
            max(rule_use::at),
        ));
        let rows = totals.load::<(String, i64, Option<i64>)>(self.connection())?;
        let total = |(rule, count, at): (String, i64, Option<i64>)| {
            let at = Row { table: "rule_use", key: &rule }.time(at.unwrap_or_default())?;
            Ok((rule, (count, at)))
        };
        rows.into_iter().map(total).collect()
    }

    /// The highest counter that a rule gave.
    ///
    /// # Errors
    /// What the database refused.
    pub fn rule_counter(&mut self, rule: &str) -> Result<Option<i64>, StoreError> {
        let its = rule_use::table.filter(rule_use::rule.eq(rule));
        Ok(its.select(max(rule_use::counter)).first(self.connection())?)
    }
}
