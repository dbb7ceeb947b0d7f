//! Old polls that brought nothing new are folded, once a day, a few at a time.

use mizuno_core::time::DAY;
use mizuno_desk::Desk;
use std::{sync::Arc, time::Duration};

/// Polls stay as they are for so long, in microseconds.
const KEPT: i64 = 30 * DAY;
/// Fetches folded in one transaction: some tens of milliseconds of the writer's time ...
const AT_ONCE: i64 = 500;
/// ... and then it is left to others for a moment.
const PAUSE: Duration = Duration::from_millis(100);

/// Folds what is old enough, now and every day from now on.
pub fn keep_folding(desk: &Arc<Desk>) {
    let desk = desk.clone();
    let home = desk.home.clone();
    drop(home.spawn(async move {
        loop {
            let before = desk.clock.now().plus(-KEPT);
            loop {
                match desk.store.fold(before, AT_ONCE).await {
                    Ok(folded) if folded > 0 => tokio::time::sleep(PAUSE).await,
                    Ok(_) => break,
                    Err(error) => {
                        tracing::warn!(%error, "old polls are not folded; it is tried again in a day");
                        break;
                    }
                }
            }
            desk.clock.sleep_until(desk.clock.now().plus(DAY)).await;
        }
    }));
}
