//! Collectors that follow a universe by a rule: answering knows who belongs, and collecting takes them in.

use mizuno_collect::Collect;
use mizuno_core::Timestamp;
use mizuno_desk::DeskError;
use mizuno_research::Research;
use std::{
    sync::Arc,
    time::{Duration, Instant},
};

/// It is looked at most so often: a rule over thousands of instruments takes seconds.
const LOOKED_EVERY: Duration = Duration::from_secs(10);

/// Follows every such universe, as long as both rooms are there.
pub(crate) fn keep_following(collect: &Arc<Collect>, research: &Arc<Research>) {
    let (collect, research) = (Arc::downgrade(collect), Arc::downgrade(research));
    tokio::spawn(async move {
        // What the last look was at: a further bar may let somebody join, and so may another rule.
        let mut looked: Option<((Timestamp, u64), Instant)> = None;
        while let (Some(collect), Some(research)) = (collect.upgrade(), research.upgrade()) {
            let known = (research.desk.store.newest(), research.desk.setup().serial);
            if looked.is_none_or(|(before, at)| before != known && at.elapsed() > LOOKED_EVERY) {
                looked = Some((known, Instant::now()));
                if let Err(error) = follow(&collect, &research).await {
                    tracing::warn!(%error, "whom a rule has found cannot be told");
                }
            }
            drop((collect, research));
            tokio::time::sleep(Duration::from_secs(1)).await;
        }
    });
}

async fn follow(collect: &Collect, research: &Arc<Research>) -> Result<(), DeskError> {
    let setup = research.desk.setup();
    for name in setup.config.followed().into_iter().filter(|name| setup.config.is_by_rule(name)) {
        let now = research.desk.pinned("as_of", None).await?;
        collect.follow_rule(&setup, &*research.universe(&setup, name, now).await?).await?;
    }
    Ok(())
}
