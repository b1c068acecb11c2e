//! Rules, what they propose, what they did, and where ports of switches are.

use lastmile_core::{
    model::{
        location::Location,
        rule::{Proposal, Rule, RuleUse},
    },
    site::Entity,
};
use lastmile_formats::mac::Mac;

use super::Change;
use crate::{Recorded, StoreError};

impl Change<'_> {
    /// Adds a rule, or puts it in the place of the one of its name.
    ///
    /// # Errors
    /// What the database refused.
    pub fn put_rule(&mut self, rule: Rule) -> Result<(), StoreError> {
        self.tx.put_rule(&rule)?;
        let recorded = Recorded::Rule { name: rule.name.clone() };
        self.saved(Entity::Rule(rule.name.clone()), recorded, |site| site.with_rule(rule))
    }

    /// Removes a rule. What it gave machines stays.
    ///
    /// # Errors
    /// What the database refused.
    pub fn remove_rule(&mut self, name: &str) -> Result<(), StoreError> {
        self.tx.remove_rule(name)?;
        let recorded = Recorded::Rule { name: name.into() };
        self.removed(&Entity::Rule(name.into()), recorded, |site| site.without_rule(name))
    }

    /// Gives a rule another name; what it did follows.
    ///
    /// # Errors
    /// What the database refused.
    pub fn rename_rule(&mut self, former: &Rule, name: &str) -> Result<(), StoreError> {
        self.remove_rule(&former.name)?;
        self.tx.rename_rule_uses(&former.name, name)?;
        self.put_rule(Rule { name: name.into(), ..former.clone() })
    }

    /// Keeps that something is proposed for whoever has an address.
    ///
    /// # Errors
    /// What the database refused.
    pub fn put_proposal(&mut self, proposal: Proposal) -> Result<(), StoreError> {
        self.tx.put_proposal(&proposal)?;
        self.record(Recorded::Proposals);
        self.with(|site| site.with_proposal(proposal));
        Ok(())
    }

    /// Keeps that nothing is proposed for whoever has that address.
    ///
    /// # Errors
    /// What the database refused.
    pub fn remove_proposal(&mut self, mac: Mac) -> Result<(), StoreError> {
        if self.site().proposal(mac).is_some() {
            self.tx.remove_proposal(mac)?;
            self.record(Recorded::Proposals);
            self.with(|site| site.without_proposal(mac));
        }
        Ok(())
    }

    /// Keeps that a rule changed a machine.
    ///
    /// # Errors
    /// What the database refused.
    pub fn add_rule_use(&mut self, rule_use: &RuleUse) -> Result<(), StoreError> {
        self.tx.add_rule_use(rule_use)?;
        self.record(Recorded::Rule { name: rule_use.rule.clone() });
        Ok(())
    }

    /// Corrects what a rule is said to have changed: what it was about to do was refused.
    ///
    /// # Errors
    /// What the database refused.
    pub fn set_rule_changes(&mut self, rule_use: &RuleUse) -> Result<(), StoreError> {
        self.tx.set_rule_changes(rule_use)?;
        self.record(Recorded::Rule { name: rule_use.rule.clone() });
        Ok(())
    }

    /// Keeps these as all the locations there are.
    ///
    /// # Errors
    /// What the database refused.
    pub fn put_locations(&mut self, locations: Vec<Location>) -> Result<(), StoreError> {
        self.tx.put_locations(&locations)?;
        self.saved(Entity::Locations, Recorded::Locations, |site| site.with_locations(locations))
    }
}
