//! Which request or job the lines of the log are about.
//!
//! A span names it. It is made when the first line is written: most requests write none, and making a span costs as much as validating
//! an input. Futures that run [`within`] lines carry them; the log calls [`on_line`] before each line.
//!
//! ```
//! use kanzlei_runtime::lines::{Lines, current, within};
//! let lines = Lines::of_request("r-1".into(), uuid::Uuid::nil());
//! let inside = futures_util::FutureExt::now_or_never(within(Some(lines), async { current().is_some() }));
//! assert_eq!((inside, current().is_some()), (Some(true), false));
//! ```

use std::cell::RefCell;
use std::pin::Pin;
use std::sync::{Arc, OnceLock};
use std::task::{Context, Poll};

use pin_project_lite::pin_project;
use tracing::Span;
use tracing::field::Empty;
use uuid::Uuid;

/// What lines are about.
#[derive(Clone, Debug)]
pub struct Lines(Arc<Inner>);

#[derive(Debug)]
struct Inner {
    about: About,
    /// The `traceparent` of its own span, where that is kept.
    trace: OnceLock<String>,
    span: OnceLock<Span>,
}

#[derive(Debug)]
enum About {
    Request { request: String, run: Uuid },
    Job { run: Uuid, request: String, workflow: String },
}

impl Lines {
    /// Lines about a request, by its `X-Request-Id`, and its run.
    pub fn of_request(request: String, run: Uuid) -> Self {
        Lines::of(About::Request { request, run })
    }

    /// Lines about a job, by its id, the request that queued it and its workflow.
    pub fn of_job(run: Uuid, request: String, workflow: String) -> Self {
        Lines::of(About::Job { run, request, workflow })
    }

    fn of(about: About) -> Self {
        Lines(Arc::new(Inner { about, trace: OnceLock::new(), span: OnceLock::new() }))
    }

    /// Names the trace whose spans are kept.
    pub fn trace(&self, header: String) {
        if let Some(span) = self.0.span.get() {
            span.record("trace", &header);
        }
        let _ = self.0.trace.set(header);
    }

    fn span(&self) -> &Span {
        self.0.span.get_or_init(|| {
            let span = match &self.0.about {
                About::Request { request, run } => {
                    tracing::error_span!("request", request, run = %run, trace = Empty)
                }
                About::Job { run, request, workflow } => {
                    tracing::error_span!("job", run = %run, request, workflow, trace = Empty)
                }
            };
            if let Some(trace) = self.0.trace.get() {
                span.record("trace", trace);
            }
            span
        })
    }
}

/// What this thread is busy with.
struct Here {
    lines: Lines,
    /// Whether its span is entered.
    entered: bool,
}

thread_local! {
    static HERE: RefCell<Option<Here>> = const { RefCell::new(None) };
}

/// What the lines of this thread are about now.
pub fn current() -> Option<Lines> {
    HERE.with_borrow(|here| here.as_ref().map(|here| here.lines.clone()))
}

/// Enters the span of what this thread is busy with, so that the next line names it.
pub fn on_line() {
    // Nothing is borrowed while the span is made: that is the business of others.
    let Some(lines) = HERE.with_borrow(|here| Some(here.as_ref().filter(|here| !here.entered)?.lines.clone())) else {
        return;
    };
    lines.span().with_subscriber(|(id, dispatch)| dispatch.enter(id));
    HERE.with_borrow_mut(|here| here.iter_mut().for_each(|here| here.entered = true));
}

/// Restores what was there before.
struct Entered(Option<Here>);

impl Entered {
    fn enter(lines: &Lines) -> Self {
        let here = Here { lines: lines.clone(), entered: false };
        let before = HERE.with_borrow_mut(|now| now.replace(here));
        if lines.0.span.get().is_some() {
            on_line();
        }
        Entered(before)
    }
}

impl Drop for Entered {
    fn drop(&mut self) {
        let here = HERE.with_borrow_mut(|now| std::mem::replace(now, self.0.take()));
        if let Some(here) = here.filter(|here| here.entered) {
            here.lines.span().with_subscriber(|(id, dispatch)| dispatch.exit(id));
        }
    }
}

pin_project! {
    /// Work whose lines are about something.
    pub struct Within<F> {
        lines: Option<Lines>,
        #[pin]
        work: F,
    }
}

/// Does work whose lines are about something.
pub fn within<F: Future>(lines: Option<Lines>, work: F) -> Within<F> {
    Within { lines, work }
}

impl<F: Future> Future for Within<F> {
    type Output = F::Output;

    fn poll(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<F::Output> {
        let this = self.project();
        let _entered = this.lines.as_ref().map(Entered::enter);
        this.work.poll(context)
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Mutex;

    use futures_util::FutureExt;
    use tracing::span;

    use super::*;

    /// What a subscriber was asked to do.
    #[derive(Clone, Default)]
    struct Notes(Arc<Mutex<Vec<String>>>);

    impl Notes {
        fn add(&self, note: String) {
            self.0.lock().expect("notes").push(note);
        }
    }

    impl tracing::Subscriber for Notes {
        fn enabled(&self, _: &tracing::Metadata<'_>) -> bool {
            true
        }

        fn new_span(&self, about: &span::Attributes<'_>) -> span::Id {
            self.add(format!("new {}", about.metadata().name()));
            span::Id::from_u64(7)
        }

        fn record(&self, _: &span::Id, _: &span::Record<'_>) {
            self.add("record".into());
        }

        fn record_follows_from(&self, _: &span::Id, _: &span::Id) {}

        fn event(&self, _: &tracing::Event<'_>) {
            self.add("line".into());
        }

        fn enter(&self, _: &span::Id) {
            self.add("enter".into());
        }

        fn exit(&self, _: &span::Id) {
            self.add("exit".into());
        }
    }

    #[test]
    fn a_span_is_made_when_a_line_is_written() {
        let pause = || {
            let mut paused = false;
            std::future::poll_fn(move |_| match std::mem::replace(&mut paused, true) {
                true => Poll::Ready(()),
                false => Poll::Pending,
            })
        };
        // A subscriber of one thread makes no spans within its own calls; the log's, which is that of all threads, does.
        let log = |some: bool| {
            if some {
                on_line();
                tracing::info!("a line");
            }
        };
        let made = "new request, record, enter, line, exit";
        for (first, second, wanted) in [
            (false, false, String::new()),
            (true, false, format!("{made}, enter, enter, exit, exit")),
            (false, true, format!("{made}, enter, line, exit")),
            (true, true, format!("{made}, enter, enter, line, exit, line, exit")),
        ] {
            let notes = Notes::default();
            let _scope = tracing::subscriber::set_default(notes.clone());
            let lines = Lines::of_request("r".into(), Uuid::nil());
            lines.trace("00-1-2-01".into());
            let work = async {
                log(first);
                pause().await;
                // Work inside is about the same.
                within(current(), async { log(second) }).await;
                log(second);
            };
            let mut work = Box::pin(within(Some(lines), work));
            assert_eq!((&mut work).now_or_never(), None);
            assert!(current().is_none());
            assert_eq!(work.now_or_never(), Some(()));
            assert_eq!(notes.0.lock().expect("notes").join(", "), wanted, "{first} {second}");
        }
    }
}
