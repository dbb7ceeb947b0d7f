//! Whether collectors run when they should.

use crate::Collect;
use mizuno_config::Schedule;
use mizuno_core::Timestamp;
use mizuno_desk::{
    DeskError, Setup,
    timetable::{is_late, next_due},
};
use mizuno_store::runs::RunRow;

/// Whether a collector runs when it should.
pub struct Punctuality {
    /// Its name.
    pub collector: String,
    /// Its newest scheduled or ordered run; repairs and audits do not count.
    pub last: Option<RunRow>,
    /// It should have run by itself and did not.
    pub late: bool,
    /// When it runs by itself next.
    pub next: Option<Timestamp>,
    /// It has a schedule, which names no next time.
    pub has_no_next: bool,
}

impl Collect {
    /// Whether the collectors run when they should, in their order.
    pub async fn punctuality(&self, setup: &Setup, now: Timestamp) -> Result<Vec<Punctuality>, DeskError> {
        let mut out = vec![];
        for name in setup.config.collectors.keys() {
            let post = setup.post(name)?;
            let last = self.newest_run(name).await?;
            let next = next_due(&post, now);
            let by_the_clock = post.collector.schedule.as_ref().is_some_and(|s| !matches!(s, Schedule::Dropped(_)));
            out.push(Punctuality {
                collector: name.clone(),
                late: !self.live.is_running(name) && is_late(&post, now, last.as_ref().map(|r| r.started_at)),
                has_no_next: by_the_clock && next.is_none(),
                next,
                last,
            });
        }
        Ok(out)
    }
}
