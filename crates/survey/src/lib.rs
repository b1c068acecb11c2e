//! What a survey measures of a machine ([`facts`]), how two surveys are compared ([`compare`]), and what its agent and the service tell each other ([`messages`]).
//!
//! A crate of its own, so that the agent, which is sent to every machine, is made of little else.

pub mod compare;
pub mod facts;
pub mod messages;
