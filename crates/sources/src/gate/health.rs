//! Whether a source answers at all: paused when it keeps failing, probed, and back by itself.

use mizuno_core::Timestamp;

/// A probe waits this long at most, in microseconds.
const LONGEST: i64 = 3_600_000_000;
/// A probe that nobody reports on is given up after this long, in microseconds.
const LOST: i64 = 600_000_000;

/// How a source has been answering.
#[derive(Debug)]
pub(super) struct Health {
    pause_after: u32,
    probe_after: i64,
    failed: u32,
    wait: i64,
    /// Paused until then, when one request may probe.
    paused: Option<Timestamp>,
    /// A probe is under way since then.
    probing: Option<Timestamp>,
    /// It asked us to wait until then.
    told_to_wait: Option<Timestamp>,
}

impl Health {
    pub(super) fn new(pause_after: u32, probe_after: i64) -> Health {
        Health { pause_after, probe_after, failed: 0, wait: probe_after, paused: None, probing: None, told_to_wait: None }
    }

    /// Until when nothing may be sent, and whether that is a pause.
    pub(super) fn waits_until(&self, now: Timestamp) -> Option<(Timestamp, bool)> {
        if let Some(since) = self.probing.filter(|since| now < since.plus(LOST)) {
            return Some((since.plus(LOST), true));
        }
        let paused = self.paused.filter(|until| now < *until).map(|until| (until, true));
        paused.or(self.told_to_wait.filter(|until| now < *until).map(|until| (until, false)))
    }

    /// A request goes out. The first after a pause is a probe; whether this is.
    pub(super) fn sent(&mut self, now: Timestamp) -> bool {
        if self.paused.is_some() {
            self.probing = Some(now);
        }
        self.paused.is_some()
    }

    /// The request that probed was given up; the next one probes.
    pub(super) fn gave_up(&mut self) {
        self.probing = None;
    }

    /// A request ended. Returns until when the source is paused, when this failure paused it.
    pub(super) fn report(&mut self, trouble: bool, retry_after: Option<i64>, now: Timestamp) -> Option<Timestamp> {
        let told = retry_after.map(|wait| now.plus(wait));
        self.told_to_wait = told.max(self.told_to_wait.filter(|until| now < *until));
        if !trouble {
            (self.failed, self.wait, self.paused, self.probing) = (0, self.probe_after, None, None);
            return None;
        }
        self.failed += 1;
        let probe_failed = self.probing.take().is_some();
        if probe_failed {
            self.wait = self.wait.saturating_mul(2).min(LONGEST);
        }
        // Requests that were under way when the pause began do not lengthen it.
        if probe_failed || (self.paused.is_none() && self.failed >= self.pause_after) {
            self.paused = Some(now.plus(self.wait));
            return self.paused;
        }
        None
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_source_that_keeps_failing_is_paused_probed_and_comes_back() {
        let mut health = Health::new(3, 60);
        let at = Timestamp;
        assert_eq!((health.report(true, None, at(0)), health.report(true, None, at(1))), (None, None));
        assert_eq!(health.report(true, None, at(2)), Some(at(62)));
        assert_eq!(health.waits_until(at(10)), Some((at(62), true)));
        assert_eq!(health.report(true, None, at(11)), None, "what was under way does not lengthen the pause");
        assert_eq!(health.waits_until(at(62)), None, "one may go");
        health.sent(at(62));
        assert!(health.waits_until(at(63)).is_some(), "and no other until it is back");
        assert_eq!(health.report(true, None, at(64)), Some(at(184)), "the next probe waits twice as long");
        health.sent(at(184));
        health.gave_up();
        assert_eq!(health.waits_until(at(185)), None, "whoever comes next may probe");
        health.sent(at(185));
        assert_eq!(health.report(false, None, at(185)), None);
        assert_eq!(health.waits_until(at(185)), None, "back by itself");
    }

    #[test]
    fn a_source_that_says_wait_is_left_alone_so_long() {
        let mut health = Health::new(3, 60);
        let at = Timestamp;
        health.report(true, Some(20), at(0));
        assert_eq!(health.waits_until(at(19)), Some((at(20), false)));
        health.report(false, None, at(5));
        assert_eq!(health.waits_until(at(19)), Some((at(20), false)), "an answer that was under way does not lift it");
        assert_eq!(health.waits_until(at(20)), None);
    }
}
