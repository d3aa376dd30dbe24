//! Why a job that is due has not begun, in a sentence that says what to do.

use kanzlei_model::duration;
use kanzlei_model::run::JobPhase;
use kanzlei_model::time::Timestamp;
use kanzlei_runtime::live::Live;
use kanzlei_store::queue::JobRow;

use crate::App;
use crate::error::Result;

/// The reason; nothing where it is not due, runs or has ended.
pub async fn why(app: &App, live: &Live, job: &JobRow, held: bool, at: Timestamp) -> Result<Option<String>> {
    let due = job.phase == JobPhase::Blocked || job.is_held() || (job.phase == JobPhase::Ready && job.ready_at <= at);
    if !due {
        return Ok(None);
    }
    let lane = &job.lane;
    if !app.store.workers().await?.iter().any(|(.., expires)| *expires > at) {
        return Ok(Some("no process runs jobs at present; start one with `jobs.at_once` above 0".into()));
    }
    if held {
        return Ok(Some(format!("the lane `{lane}` is held; `kanzlei lane release {lane}` releases it")));
    }
    let name = live.name_now(&job.workflow, job.id);
    if app.jobs.is_held(name) {
        return Ok(Some(format!("the workflow `{name}` is held; `kanzlei release {name}` releases it")));
    }
    if let (JobPhase::Blocked, Some(key)) = (job.phase, &job.ordering_key) {
        let first = match app.store.goes_first(key, job.id).await? {
            Some((id, JobPhase::Running)) => format!("the job {id} runs and has it"),
            Some((id, _)) => format!("the job {id} goes first"),
            None => "another job had it a moment ago".into(),
        };
        return Ok(Some(format!("jobs with the ordering key `{key}` run one after another: {first}")));
    }
    let rules = live.lane(lane);
    let depths = app.store.lane_depths(at).await?;
    let depth = depths.iter().find(|depth| depth.lane == *lane);
    let (running, queued) = depth.map_or((0, 0), |depth| (depth.running, depth.queued));
    if let Some(most) = rules.at_once.filter(|most| running >= u64::from(*most)) {
        return Ok(Some(format!("the lane `{lane}` runs {most} jobs at once, and so many run; {queued} are due")));
    }
    if let Some((count, span)) = rules.pace {
        let span = duration::short(span);
        return Ok(Some(format!("the lane `{lane}` begins {count} jobs in {span}; {queued} are due")));
    }
    Ok(Some(format!("it waits for its turn: {queued} jobs of the lane `{lane}` are due, {running} run")))
}
