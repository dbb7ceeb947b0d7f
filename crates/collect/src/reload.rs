//! Taking up a changed configuration without a restart.

use crate::Collect;
use mizuno_config::Config;
use mizuno_desk::DeskError;
use std::collections::BTreeMap;

impl Collect {
    /// Reads the configuration again and puts it to work; returns what changed, in sentences. `further` refuses what only other
    /// rooms can judge.
    ///
    /// # Errors
    /// Every problem in it; the old configuration then goes on.
    pub async fn reload(&self, further: fn(&Config) -> Result<(), DeskError>) -> Result<Vec<String>, DeskError> {
        let dir = self
            .desk
            .config_dir()
            .ok_or_else(|| DeskError::Invalid("this service was started without a configuration directory".to_owned()))?;
        let config = Config::load(dir).map_err(|source| DeskError::Configuration {
            what: format!("the configuration in {} is not sound, so the old one goes on", dir.display()),
            source,
        })?;
        further(&config)?;
        let before = self.desk.setup();
        let mut said = vec![];
        compare("venue", &before.config.venues, &config.venues, &mut said);
        compare("source", &before.config.sources, &config.sources, &mut said);
        compare("collector", &before.config.collectors, &config.collectors, &mut said);
        let by_symbol = |all: &[mizuno_core::Instrument]| -> BTreeMap<String, mizuno_core::Instrument> {
            all.iter().map(|i| (i.symbol.clone(), i.clone())).collect()
        };
        // Those that lists added are not the configuration's to take away.
        let listed = self.desk.store.listed_instruments().await?;
        let mut known = by_symbol(&before.config.instruments);
        listed.iter().for_each(|i| drop(known.remove(&i.symbol)));
        compare("instrument", &known, &by_symbol(&config.instruments), &mut said);
        for (what, same) in [
            ("ranking.toml", before.config.ranking == config.ranking),
            ("rates.toml", before.config.rates == config.rates),
            ("checks.toml", before.config.checks == config.checks),
        ] {
            said.extend((!same).then(|| format!("{what}: changed")));
        }
        compare("universe", &before.config.universes, &config.universes, &mut said);
        compare("chain", &before.config.chains, &config.chains, &mut said);
        compare("question", &before.config.questions, &config.questions, &mut said);
        let secrets = self.desk.secrets();
        let other_key = before.sources.iter().filter(|(name, s)| config.sources.contains_key(*name) && !s.has_key_of(&secrets));
        said.extend(other_key.map(|(name, _)| format!("key of {name}: another than before")));
        if before.config.service.listen != config.service.listen {
            said.push(format!("listen: now {}, which takes a restart to hold", config.service.listen));
        }
        if before.config.service.desk != config.service.desk {
            said.push(format!("desk: now {}", config.service.desk));
        }
        let running = self.live.under_way();
        self.put_to_work(config).await?;
        for (run, collector) in running {
            if let Ok(post) = before.post(&collector)
                && !self.is_at_work(&post.source.profile)
            {
                said.push(match self.desk.setup().post(&collector) {
                    Ok(now) => format!(
                        "run {run} of {collector}: stopped, and taken up again with the profile that {} has now",
                        now.source.profile.name
                    ),
                    Err(_) => format!("run {run} of {collector}: stopped, since its source is gone"),
                });
            }
        }
        tracing::info!(changes = said.len(), "the configuration was taken up again");
        Ok(said)
    }

    /// Puts another configuration to work. Series that no collector keeps any more are no longer collected again on a new basis.
    async fn put_to_work(&self, config: Config) -> Result<(), DeskError> {
        self.desk.put_to_work(config).await?;
        self.end_abandoned_rebasings().await
    }

    /// Puts the same configuration to work again, with calendars that reach as far ahead as ever.
    pub async fn renew(&self) -> Result<(), DeskError> {
        let mut config = self.desk.setup().config.clone();
        let listed: std::collections::HashSet<String> = self.desk.store.listed_instruments().await?.into_iter().map(|i| i.symbol).collect();
        config.instruments.retain(|i| !listed.contains(&i.symbol));
        self.put_to_work(config).await
    }
}

/// Says what is new, changed and gone; many of a kind in one sentence.
fn compare<T: PartialEq>(kind: &str, before: &BTreeMap<String, T>, after: &BTreeMap<String, T>, said: &mut Vec<String>) {
    let new: Vec<&String> = after.keys().filter(|k| !before.contains_key(*k)).collect();
    let gone: Vec<&String> = before.keys().filter(|k| !after.contains_key(*k)).collect();
    let changed: Vec<&String> = after.iter().filter(|(k, v)| before.get(*k).is_some_and(|b| b != *v)).map(|(k, _)| k).collect();
    for (what, names) in [("new", new), ("changed", changed), ("gone", gone)] {
        match &names[..] {
            [] => {}
            [.., _] if names.len() > 6 => said.push(format!("{kind}: {} {what}, {} and others", names.len(), names[0])),
            names => said.push(format!("{kind} {what}: {}", names.iter().map(|n| n.as_str()).collect::<Vec<_>>().join(", "))),
        }
    }
}
