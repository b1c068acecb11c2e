//! Webhooks, and what is to be delivered to them.

use lastmile_core::{model::webhook::Webhook, site::Entity};

use super::Change;
use crate::{Delivery, NewDelivery, Recorded, StoreError};

impl Change<'_> {
    /// Adds a webhook, or puts it in the place of the one of its name.
    ///
    /// # Errors
    /// What the database refused.
    pub fn put_webhook(&mut self, webhook: Webhook) -> Result<(), StoreError> {
        self.tx.put_webhook(&webhook)?;
        let recorded = Recorded::Webhook { name: webhook.name.clone() };
        self.saved(Entity::Webhook(webhook.name.clone()), recorded, |site| site.with_webhook(webhook))
    }

    /// Removes a webhook. What was delivered stays on record; what was not is abandoned.
    ///
    /// # Errors
    /// What the database refused.
    pub fn remove_webhook(&mut self, name: &str) -> Result<(), StoreError> {
        self.tx.remove_webhook(name)?;
        let recorded = Recorded::Webhook { name: name.into() };
        self.removed(&Entity::Webhook(name.into()), recorded, |site| site.without_webhook(name))
    }

    /// Gives a webhook another name; its deliveries follow.
    ///
    /// # Errors
    /// What the database refused.
    pub fn rename_webhook(&mut self, former: &Webhook, name: &str) -> Result<(), StoreError> {
        self.tx.rename_deliveries(&former.name, name)?;
        self.remove_webhook(&former.name)?;
        self.put_webhook(Webhook { name: name.into(), ..former.clone() })
    }

    /// Keeps what is to be told. It is due at once.
    ///
    /// # Errors
    /// What the database refused.
    pub fn add_deliveries(&mut self, deliveries: &[NewDelivery]) -> Result<(), StoreError> {
        self.tx.add_deliveries(deliveries)?;
        for delivery in deliveries {
            self.record(Recorded::Webhook { name: delivery.webhook.clone() });
        }
        Ok(())
    }

    /// Keeps how a delivery is after an attempt, or as somebody wants it.
    ///
    /// # Errors
    /// What the database refused.
    pub fn put_delivery(&mut self, delivery: &Delivery) -> Result<(), StoreError> {
        self.tx.put_delivery(delivery)?;
        self.record(Recorded::Webhook { name: delivery.webhook.clone() });
        Ok(())
    }
}
