//! The core of Oaken Census: the registry of gameplay variables, the event-script language, the analysis and the rules.
//!
//! Nothing here prints, reads options or ends the process: see `docs/ARCHITECTURE.md` for what lives where.

pub mod accepted;
pub mod compare;
pub mod edit;
pub mod finding;
pub mod flow;
pub mod project;
pub mod registry;
pub mod rehearsal;
pub mod rehearse;
pub mod report;
pub mod rules;
pub mod schema;
pub mod script;
pub mod sheet;
pub mod source;
pub mod tally;
pub mod waivers;
pub mod whatif;
pub mod witness;
pub mod words;
