//! What editors ask about documents: pure functions over a [`Workspace`] of texts and a position in one of them.
//!
//! [`complete`] lists what can stand at a place, [`hover`] says what stands there, [`symbols`] finds where things are
//! declared and used and renames them, [`outline`] numbers the steps, [`scope`] lists the names a step knows with their
//! types, [`explain`] explains the codes of findings. All of it is the checker's own knowledge: names and types come from the same walk
//! that compiles, keys from the tables that reading uses. Nothing here does I/O or knows an editor's protocol; positions are bytes.
//!
//! ```
//! use kanzlei_analysis::{Workspace, complete};
//! let text = "workflow: w\ninput:\n  imo: {type: string}\nsteps:\n  - reply: 200\n    body: ${input.}\n";
//! let workspace = Workspace::of([("w.yaml".to_owned(), text.to_owned())]);
//! let at = text.find("input.}").unwrap() + "input.".len();
//! assert_eq!(complete::at(&workspace, "w.yaml", at)[0].label, "imo");
//! ```

pub mod begin;
pub mod compare;
pub mod complete;
pub mod describe;
pub mod explain;
mod expression;
mod extract;
pub mod hover;
mod keys;
pub mod lines;
pub mod outline;
mod place;
pub mod propose;
pub mod sample;
pub mod scope;
mod sent;
pub mod sheet;
pub mod symbols;
mod workspace;

#[cfg(test)]
mod tests;

pub use extract::{Extracted, extract};
pub use workspace::Workspace;
