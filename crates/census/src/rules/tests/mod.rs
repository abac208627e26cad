//! Cases that cut across the rules: what ought to be told, and what looks like it and ought not.

mod amounts;
mod beginnings;
mod clockwork;
mod designs;
mod guards;
mod handed_over;
mod kept_out;
mod later;
mod lending;
mod limits;
mod long;
mod loops;
mod modes;
mod partings;
mod places;
mod products;
mod recursion;
mod registry;
mod rewritten;
mod sending;
mod sharing;
mod single_mistakes;
mod steps;
mod terms;
mod values;
mod whole_scripts;
