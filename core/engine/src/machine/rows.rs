//! Loops over the rows of files. The machine asks for some of them at a time, begins an item for each, and asks for more when those
//! are begun; it never holds more than one batch.

use std::collections::VecDeque;
use std::sync::Arc;

use super::flow::{Awaits, Fibre, Flow, Group};
use super::{Effect, EffectError, EffectId, Failure, Machine, Outcome, State};
use kanzlei_compiler::plan::rows::Reading;
use kanzlei_compiler::plan::{Action, Each, Step};
use kanzlei_model::file::File;
use kanzlei_model::run::FailureKind;
use kanzlei_model::value::Value;

/// Rows of files from a position on.
#[derive(Clone, Debug, PartialEq)]
pub struct RowsTask {
    /// The files, one after another.
    pub files: Vec<File>,
    /// How they are read.
    pub reading: Arc<Reading>,
    /// How many rows before them were read.
    pub from: u64,
}

/// Some rows.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Batch {
    /// The rows; none where only their number is recorded, and they are read again.
    pub rows: Vec<Value>,
    /// How many they are.
    pub count: u64,
    /// Whether they are the last ones.
    pub last: bool,
}

/// Where the items of a loop come from.
#[derive(Debug)]
pub(super) struct Feed {
    task: RowsTask,
    /// Rows that no item was begun for yet.
    waiting: VecDeque<Value>,
    last: bool,
    /// The batch that was asked for.
    pub asked: Option<EffectId>,
    /// Items that were begun, and those that failed.
    begun: usize,
    failed: i64,
}

impl Machine {
    /// Begins a loop over rows: asks for the first ones.
    pub(super) fn fork_rows(
        &mut self,
        at: usize,
        fibre: &mut Fibre,
        record: usize,
        files: Vec<File>,
        reading: &Arc<Reading>,
    ) -> Flow {
        let task = RowsTask { files, reading: reading.clone(), from: 0 };
        let mut feed = Feed { task, waiting: VecDeque::new(), last: false, asked: None, begun: 0, failed: 0 };
        self.ask_rows(at, &mut feed);
        fibre.awaits = Awaits::Children(Box::new(Group::fed(record, feed)));
        Flow::Waits
    }

    fn ask_rows(&mut self, at: usize, feed: &mut Feed) {
        feed.asked = Some(self.ask(at, Effect::Rows(Box::new(feed.task.clone()))));
    }

    /// Rows came for a loop.
    pub(super) fn rows_came(&mut self, at: usize, fibre: &mut Fibre, mut group: Box<Group>, outcome: Outcome) -> Flow {
        let Some(feed) = &mut group.feed else { return Flow::Waits };
        feed.asked = None;
        let fault = match outcome {
            Outcome::Rows(Ok(batch)) => {
                feed.task.from += batch.count;
                feed.last = batch.last;
                feed.waiting.extend(batch.rows);
                return self.begin_rows(at, fibre, group);
            }
            Outcome::Rows(Err(fault)) => fault,
            _ => {
                let detail = "the outcome is not what was asked for".to_owned();
                EffectError { kind: FailureKind::Internal, detail }
            }
        };
        self.cancel_group(&group);
        self.step_failed(fibre, group.record, Failure::of_files(fault))
    }

    /// Begins items for rows that wait, and asks for more.
    fn begin_rows(&mut self, at: usize, fibre: &mut Fibre, mut group: Box<Group>) -> Flow {
        let plan = self.levels[fibre.level as usize].plan.clone();
        let (block, place) = self.records[group.record].place();
        let step = plan.blocks.get(block as usize).and_then(|block| block.get(place));
        let Some(Step { action: Action::Each(each), .. }) = step else { return Flow::Waits };
        self.fill(at, fibre, each, &mut group);
        if group.children.is_empty() && group.feed.as_ref().is_none_or(|feed| feed.asked.is_none()) {
            let (count, failed) = group.feed.as_ref().map_or((0, 0), |feed| (feed.begun as i64, feed.failed));
            self.see_kept(fibre);
            let outcome = Value::object([("count", Value::Int(count)), ("failed", Value::Int(failed))]);
            self.close(fibre, group.record, State::Succeeded, outcome);
            return Flow::On;
        }
        fibre.awaits = Awaits::Children(group);
        Flow::Waits
    }

    fn fill(&mut self, at: usize, fibre: &Fibre, each: &Each, group: &mut Group) {
        while group.children.len() < each.at_once as usize {
            let Some(feed) = &mut group.feed else { return };
            let Some(row) = feed.waiting.pop_front() else { break };
            let index = feed.begun;
            feed.begun += 1;
            let child = self.child(at, fibre, each.block, group.record, index);
            let child = self.add(Box::new(child));
            self.begin_item(fibre, child, each, (group.record, index), Some(&row));
            group.children.push(child);
        }
        if let Some(feed) = &mut group.feed
            && feed.waiting.is_empty()
            && !feed.last
            && feed.asked.is_none()
        {
            self.ask_rows(at, feed);
        }
    }

    /// An item of a loop over rows ended.
    pub(super) fn row_ended(
        &mut self,
        at: usize,
        fibre: &mut Fibre,
        child: usize,
        mut group: Box<Group>,
        ended: Result<(), Box<Failure>>,
        settle: bool,
    ) -> Flow {
        self.free_fibre(child);
        group.children.retain(|other| *other != child);
        match ended {
            Err(_) if settle => {
                if let Some(feed) = &mut group.feed {
                    feed.failed += 1;
                }
            }
            Err(failure) => {
                self.cancel_group(&group);
                return self.step_failed(fibre, group.record, *failure);
            }
            Ok(()) => {}
        }
        self.begin_rows(at, fibre, group)
    }
}
