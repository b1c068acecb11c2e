//! What a survey measures of a machine ([`facts`]), how two surveys are compared ([`compare`]), what is to be done on machines ([`job`]), and what its agent and the service tell each other ([`messages`]).
//!
//! A crate of its own, so that the agent, which is sent to every machine, is made of little else.

pub mod compare;
pub mod facts;
pub mod job;
pub mod messages;
