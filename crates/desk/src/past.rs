//! The setup as it was at an instant: what an answer of the past is made with.
//!
//! A configuration counts from the instant at which the service accepted it; the oldest one stands for all time before. What lists of
//! sources said of instruments, and what instruments were called, is of the instant too. Keys and passwords are not kept, and nothing
//! is asked of a source with a setup of the past.

use crate::{
    desk::Desk,
    error::DeskError,
    setup::{Means, Setup},
    universes::{lists_followed, told},
};
use mizuno_config::{Config, Texts};
use mizuno_core::Timestamp;
use mizuno_store::configurations::KeptConfiguration;
use std::{collections::HashMap, sync::Arc};

impl Desk {
    /// The setup that counted at an instant.
    ///
    /// # Errors
    /// When the store cannot be read, or its configuration is not sound any more.
    pub async fn setup_at(&self, instant: Timestamp) -> Result<Arc<Setup>, DeskError> {
        let _settled = self.changing.read().await;
        let present = self.setup();
        if instant >= present.since {
            return Ok(present);
        }
        let Some(kept) = self.store.configuration_at(instant).await? else { return Ok(present) };
        let (listed, renamed) = self.store.instruments_changed_since(instant).await?;
        // Who a collector of the past followed is of that instant too.
        let mut told_since = 0;
        match kept.id == present.kept.id {
            // Which lists another configuration followed is not known before it is read.
            false => told_since += self.store.lists_changed_since(None, instant).await?,
            true => {
                for list in lists_followed(&present.config) {
                    told_since += self.store.lists_changed_since(list.split_once('/'), instant).await?;
                }
            }
        }
        let key = (kept.id, listed, renamed, told_since);
        if key == (present.kept.id, 0, 0, 0) {
            return Ok(present);
        }
        self.past.recall_or(key, self.setup_then(&present, kept, instant)).await
    }

    async fn setup_then(&self, present: &Arc<Setup>, kept: KeptConfiguration, instant: Timestamp) -> Result<Setup, DeskError> {
        let texts = match kept.id == present.kept.id {
            true => present.config.texts.clone(),
            false => Arc::new(Texts(self.store.configuration_texts(&kept).await?)),
        };
        let config = Config::of(texts).map_err(|source| {
            let at = kept.accepted_at;
            let what = format!("the configuration that counted at {instant}, accepted at {at}, cannot be read by this version of mizuno");
            DeskError::Configuration { what, source }
        })?;
        let names = self.store.symbols_then(instant).await?;
        let told = told(&self.store, lists_followed(&config), instant).await?;
        let means = Means {
            clock: &self.clock,
            secrets: &self.secrets(),
            book: self.book(),
            folder: self.data(),
            before: Some(present),
            since: kept.accepted_at,
            kept,
            names: &names,
            told: &told,
        };
        Setup::new(config, self.store.listed_instruments_at(instant).await?, HashMap::new(), &means)
    }
}
