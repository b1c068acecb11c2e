//! Whether a request in the name of a machine is its own.

use std::net::Ipv4Addr;

use lastmile_formats::mac::Mac;

use crate::model::subnet::Identify;

/// What is known when a request in the name of a machine comes from an address.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Claim {
    /// The address it comes from.
    pub from: Ipv4Addr,
    /// Whose address that is known to be, by one MAC address of it; and whether that is the machine itself.
    pub owner: Option<(Mac, bool)>,
    /// The address that the machine is known to have.
    pub has: Option<Ipv4Addr>,
    /// What its subnet says.
    pub identify: Identify,
    /// The address that has claimed the machine during this boot.
    pub claimed_by: Option<Ipv4Addr>,
}

/// Whether a request in the name of a machine is taken for its own.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Identity {
    /// It is the machine's own.
    Own,
    /// It is taken for the machine's own, and the address has the claim from now on.
    Claims,
    /// The address is another machine's.
    Others {
        /// That machine, by its MAC address.
        owner: Mac,
    },
    /// Another address has claimed the machine during this boot.
    ClaimedBy {
        /// That address.
        first: Ipv4Addr,
    },
    /// It is not known whose address it is.
    Unknown,
}

impl Identity {
    /// Whether the request counts as the machine's own.
    #[must_use]
    pub const fn is_own(self) -> bool {
        matches!(self, Self::Own | Self::Claims)
    }
}

impl Claim {
    /// Decides whether the request is the machine's own.
    #[must_use]
    pub fn decide(&self) -> Identity {
        match (self.owner, self.has) {
            (Some((_, true)), _) => return Identity::Own,
            (Some((owner, false)), _) => return Identity::Others { owner },
            (None, Some(has)) if has != self.from => return Identity::Unknown,
            (None, _) => {}
        }
        match (self.identify, self.claimed_by) {
            (Identify::Address, _) => Identity::Unknown,
            (Identify::FirstClaim, None) => Identity::Claims,
            (Identify::FirstClaim, Some(first)) if first == self.from => Identity::Own,
            (Identify::FirstClaim, Some(first)) => Identity::ClaimedBy { first },
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const HERE: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 50);
    const THERE: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 51);

    #[test]
    fn only_a_known_address_or_the_first_claim_counts() {
        let other = Mac::documentation(2);
        let claim =
            Claim { from: HERE, owner: None, has: None, identify: Identify::Address, claimed_by: None };
        assert_eq!(claim.decide(), Identity::Unknown);
        assert!(Claim { owner: Some((Mac::documentation(1), true)), ..claim }.decide().is_own());
        let first = Claim { identify: Identify::FirstClaim, ..claim };
        assert_eq!(first.decide(), Identity::Claims);
        assert_eq!(Claim { claimed_by: Some(HERE), ..first }.decide(), Identity::Own);
        assert_eq!(Claim { claimed_by: Some(THERE), ..first }.decide(), Identity::ClaimedBy { first: THERE });
        // Whatever the subnet says, an address that is another's is no claim, and a machine that is elsewhere is not here.
        for claim in [claim, first, Claim { claimed_by: Some(HERE), ..first }] {
            let others = Claim { owner: Some((other, false)), ..claim };
            assert_eq!(others.decide(), Identity::Others { owner: other });
            assert_eq!(Claim { has: Some(THERE), ..claim }.decide(), Identity::Unknown);
        }
    }
}
