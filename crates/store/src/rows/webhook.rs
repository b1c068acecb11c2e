//! Where ends of installs are told, and what was told.

use diesel::prelude::*;
use jiff::Timestamp;
use lastmile_core::model::webhook::{Webhook, WebhookEvent};

use crate::{
    StoreError, Tx,
    schema::{delivery, webhook},
    value::{self, Row},
};

/// Something that is to be told, or was.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Delivery {
    /// Its number: the same at every attempt.
    pub number: i32,
    /// The webhook's name.
    pub webhook: String,
    /// The install that it tells of; 0 for a trial.
    pub install: i64,
    /// What of it.
    pub event: WebhookEvent,
    /// What is sent, as JSON.
    pub body: String,
    /// Since when it is to be told.
    pub created: Timestamp,
    /// How often it was tried.
    pub attempts: u32,
    /// When it is tried next; `None` once it is delivered or was abandoned.
    pub due: Option<Timestamp>,
    /// When it was taken on the other side.
    pub delivered: Option<Timestamp>,
    /// When it was tried last.
    pub last_attempt: Option<Timestamp>,
    /// What came of that.
    pub last_answer: Option<String>,
}

/// What is to be told, before it has a number.
#[derive(Debug, Clone)]
pub struct NewDelivery {
    /// The webhook's name.
    pub webhook: String,
    /// The install that it tells of; 0 for a trial.
    pub install: i64,
    /// What of it.
    pub event: WebhookEvent,
    /// What is sent, as JSON.
    pub body: String,
    /// Now.
    pub created: Timestamp,
}

/// Which deliveries are asked for.
#[derive(Debug, Clone, Default)]
pub struct DeliveryFilter {
    /// Only those of this webhook.
    pub webhook: Option<String>,
    /// Only those of this install.
    pub install: Option<i64>,
    /// Only those that are still to be told.
    pub is_waiting: bool,
    /// At most so many.
    pub limit: i64,
}

#[derive(Queryable, Selectable)]
#[diesel(table_name = delivery)]
struct DeliveryRow {
    id: i32,
    webhook: String,
    install_number: i64,
    event: String,
    body: String,
    created: i64,
    attempts: i32,
    due: Option<i64>,
    delivered: Option<i64>,
    last_attempt: Option<i64>,
    last_answer: Option<String>,
}

impl TryFrom<DeliveryRow> for Delivery {
    type Error = StoreError;

    fn try_from(row: DeliveryRow) -> Result<Self, StoreError> {
        let key = row.id.to_string();
        let read = Row { table: "delivery", key: &key };
        Ok(Self {
            number: row.id,
            install: row.install_number,
            event: read.text(&row.event)?,
            created: read.time(row.created)?,
            attempts: read.count(row.attempts)?,
            due: read.maybe_time(row.due)?,
            delivered: read.maybe_time(row.delivered)?,
            last_attempt: read.maybe_time(row.last_attempt)?,
            webhook: row.webhook,
            body: row.body,
            last_answer: row.last_answer,
        })
    }
}

impl Tx<'_> {
    /// Adds a webhook, or puts it in the place of the one of its name.
    ///
    /// # Errors
    /// What the database refused.
    pub(crate) fn put_webhook(&mut self, entity: &Webhook) -> Result<(), StoreError> {
        let values = (
            webhook::name.eq(&entity.name),
            webhook::draft.eq(value::json(&entity.draft)?),
            webhook::signing_key.eq(value::json(&entity.key)?),
        );
        diesel::replace_into(webhook::table).values(values).execute(self.connection())?;
        Ok(())
    }

    /// Removes a webhook. What was delivered stays on record; what was not is abandoned.
    ///
    /// # Errors
    /// What the database refused.
    pub(crate) fn remove_webhook(&mut self, name: &str) -> Result<(), StoreError> {
        diesel::delete(webhook::table.find(name)).execute(self.connection())?;
        let waiting = delivery::table.filter(delivery::webhook.eq(name).and(delivery::due.is_not_null()));
        diesel::update(waiting).set(delivery::due.eq(None::<i64>)).execute(self.connection())?;
        Ok(())
    }

    /// Has deliveries name a webhook by its new name.
    ///
    /// # Errors
    /// What the database refused.
    pub(crate) fn rename_deliveries(&mut self, former: &str, name: &str) -> Result<(), StoreError> {
        let of_it = delivery::table.filter(delivery::webhook.eq(former));
        diesel::update(of_it).set(delivery::webhook.eq(name)).execute(self.connection())?;
        Ok(())
    }

    /// All webhooks, ordered by name.
    ///
    /// # Errors
    /// What the database refused, or a row that cannot be read.
    pub fn webhooks(&mut self) -> Result<Vec<Webhook>, StoreError> {
        let rows: Vec<(String, String, String)> =
            webhook::table.order(webhook::name).load(self.connection())?;
        rows.into_iter()
            .map(|(name, draft, key)| {
                let read = Row { table: "webhook", key: &name };
                Ok(Webhook { draft: read.json(&draft)?, key: read.json(&key)?, name: name.clone() })
            })
            .collect()
    }

    /// Keeps what is to be told. It is due at once.
    ///
    /// # Errors
    /// What the database refused.
    pub(crate) fn add_deliveries(&mut self, deliveries: &[NewDelivery]) -> Result<(), StoreError> {
        for new in deliveries {
            diesel::insert_into(delivery::table)
                .values((
                    delivery::webhook.eq(&new.webhook),
                    delivery::install_number.eq(new.install),
                    delivery::event.eq(new.event.as_str()),
                    delivery::body.eq(&new.body),
                    delivery::created.eq(new.created.as_millisecond()),
                    delivery::due.eq(new.created.as_millisecond()),
                ))
                .execute(self.connection())?;
        }
        Ok(())
    }

    /// Keeps how a delivery stands after an attempt, or as somebody wants it.
    ///
    /// # Errors
    /// What the database refused.
    pub(crate) fn put_delivery(&mut self, entity: &Delivery) -> Result<(), StoreError> {
        let millis = |at: Option<Timestamp>| at.map(Timestamp::as_millisecond);
        diesel::update(delivery::table.find(entity.number))
            .set((
                delivery::attempts.eq(value::count(entity.attempts)),
                delivery::due.eq(millis(entity.due)),
                delivery::delivered.eq(millis(entity.delivered)),
                delivery::last_attempt.eq(millis(entity.last_attempt)),
                delivery::last_answer.eq(&entity.last_answer),
            ))
            .execute(self.connection())?;
        Ok(())
    }

    /// What is due at `now`, in the order in which it came.
    ///
    /// # Errors
    /// What the database refused, or a row that cannot be read.
    pub fn due_deliveries(&mut self, now: Timestamp, limit: i64) -> Result<Vec<Delivery>, StoreError> {
        let due = delivery::table.filter(delivery::due.le(now.as_millisecond()));
        let query = due.order(delivery::id).limit(limit).select(DeliveryRow::as_select());
        query.load(self.connection())?.into_iter().map(Delivery::try_from).collect()
    }

    /// One delivery; `None` if none has that number.
    ///
    /// # Errors
    /// What the database refused, or a row that cannot be read.
    pub fn delivery(&mut self, number: i32) -> Result<Option<Delivery>, StoreError> {
        let query = delivery::table.find(number).select(DeliveryRow::as_select());
        query.first(self.connection()).optional()?.map(Delivery::try_from).transpose()
    }

    /// Deliveries, latest first.
    ///
    /// # Errors
    /// What the database refused, or a row that cannot be read.
    pub fn deliveries(&mut self, filter: &DeliveryFilter) -> Result<Vec<Delivery>, StoreError> {
        let mut query = delivery::table.into_boxed();
        if let Some(webhook) = &filter.webhook {
            query = query.filter(delivery::webhook.eq(webhook));
        }
        if let Some(install) = filter.install {
            query = query.filter(delivery::install_number.eq(install));
        }
        if filter.is_waiting {
            query = query.filter(delivery::due.is_not_null());
        }
        let query = query.order(delivery::id.desc()).limit(filter.limit).select(DeliveryRow::as_select());
        query.load(self.connection())?.into_iter().map(Delivery::try_from).collect()
    }
}
