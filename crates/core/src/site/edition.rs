//! Editions: which saved form of a thing somebody has in front of them.

use std::{fmt, net::Ipv4Addr, str::FromStr};

use crate::{
    base::Id,
    model::{answers::Scope, image::Image, loader::Loader, machine::Machine, menu::Menu, subnet::Subnet},
    site::Site,
};

/// The number of a saved form. Every change of anything takes the next one, so no number is used twice, also not after
/// something was removed and entered again. 0: saved before editions were counted.
pub type Edition = u64;

/// A thing that people enter and change.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Entity {
    /// A subnet.
    Subnet(Id<Subnet>),
    /// The reservation of an address.
    Reservation(Ipv4Addr),
    /// A loader.
    Loader(Id<Loader>),
    /// A menu.
    Menu(Id<Menu>),
    /// A label.
    Label(String),
    /// What applies to the whole site.
    Settings,
    /// An image, with its revisions.
    Image(Id<Image>),
    /// Answers, or another layer of settings.
    Layer(Scope),
    /// A machine.
    Machine(Id<Machine>),
    /// A webhook.
    Webhook(String),
    /// A rule.
    Rule(String),
    /// The table of locations.
    Locations,
}

impl fmt::Display for Entity {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Subnet(id) => write!(f, "subnet:{id}"),
            Self::Reservation(address) => write!(f, "reservation:{address}"),
            Self::Loader(id) => write!(f, "loader:{id}"),
            Self::Menu(id) => write!(f, "menu:{id}"),
            Self::Label(name) => write!(f, "label:{name}"),
            Self::Settings => f.write_str("settings:"),
            Self::Image(id) => write!(f, "image:{id}"),
            Self::Layer(Scope::Site) => f.write_str("site-answers:"),
            Self::Layer(Scope::Answers(name)) => write!(f, "answers:{name}"),
            Self::Layer(Scope::Label(name)) => write!(f, "label-answers:{name}"),
            Self::Layer(Scope::Machine(id)) => write!(f, "machine-answers:{id}"),
            Self::Machine(id) => write!(f, "machine:{id}"),
            Self::Webhook(name) => write!(f, "webhook:{name}"),
            Self::Rule(name) => write!(f, "rule:{name}"),
            Self::Locations => f.write_str("locations:"),
        }
    }
}

impl FromStr for Entity {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let unknown = || format!("'{text}' names no entity");
        let (kind, key) = text.split_once(':').ok_or_else(unknown)?;
        Ok(match kind {
            "subnet" => Self::Subnet(key.parse().map_err(|_| unknown())?),
            "reservation" => Self::Reservation(key.parse().map_err(|_| unknown())?),
            "loader" => Self::Loader(key.parse().map_err(|_| unknown())?),
            "menu" => Self::Menu(key.parse().map_err(|_| unknown())?),
            "label" => Self::Label(key.into()),
            "settings" => Self::Settings,
            "image" => Self::Image(key.parse().map_err(|_| unknown())?),
            "site-answers" => Self::Layer(Scope::Site),
            "answers" => Self::Layer(Scope::Answers(key.into())),
            "label-answers" => Self::Layer(Scope::Label(key.into())),
            "machine-answers" => Self::Layer(Scope::Machine(key.parse().map_err(|_| unknown())?)),
            "machine" => Self::Machine(key.parse().map_err(|_| unknown())?),
            "webhook" => Self::Webhook(key.into()),
            "rule" => Self::Rule(key.into()),
            "locations" => Self::Locations,
            _ => return Err(unknown()),
        })
    }
}

impl Site {
    /// The edition of an entity as it is now.
    #[must_use]
    pub fn edition(&self, entity: &Entity) -> Edition {
        self.editions.get(entity).copied().unwrap_or(0)
    }

    /// The last edition that was taken: it is the same for two snapshots in which people have entered the same.
    #[must_use]
    pub const fn last_edition(&self) -> Edition {
        self.last_edition
    }

    /// With `number` as the edition of an entity.
    #[must_use]
    pub fn with_edition(&self, entity: Entity, number: Edition) -> Self {
        let mut next = self.clone();
        next.last_edition = next.last_edition.max(number);
        next.editions.insert(entity, number);
        next
    }

    /// Without the edition of an entity that is gone; `number` is taken by its removal.
    #[must_use]
    pub fn without_edition(&self, entity: &Entity, number: Edition) -> Self {
        let mut next = self.with_last_edition(number);
        next.editions.remove(entity);
        next
    }

    /// With `number` as the last edition that was taken.
    #[must_use]
    pub fn with_last_edition(&self, number: Edition) -> Self {
        let mut next = self.clone();
        next.last_edition = next.last_edition.max(number);
        next
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn entities_are_read_back_from_their_names() {
        let all = [
            Entity::Subnet(Id::generate()),
            Entity::Reservation([192, 0, 2, 7].into()),
            Entity::Loader(Id::generate()),
            Entity::Menu(Id::generate()),
            Entity::Label("bridge:port".into()),
            Entity::Settings,
            Entity::Image(Id::generate()),
            Entity::Layer(Scope::Site),
            Entity::Layer(Scope::Answers("kiosk".into())),
            Entity::Layer(Scope::Label("kiosk".into())),
            Entity::Layer(Scope::Machine(Id::generate())),
            Entity::Machine(Id::generate()),
            Entity::Webhook("records".into()),
            Entity::Rule("quay-kiosks".into()),
            Entity::Locations,
        ];
        for entity in all {
            assert_eq!(entity.to_string().parse(), Ok(entity));
        }
        assert!("ferry:1".parse::<Entity>().is_err() && "machine".parse::<Entity>().is_err());
    }
}
