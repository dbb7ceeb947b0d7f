//! Universes by a rule that collectors follow: whoever the rule has found is kept as a list is, and collected from then on.

use crate::Collect;
use mizuno_desk::{
    DeskError, Event, Setup,
    universes::{Universe, found_by_rule},
};
use mizuno_store::lists::NewListFetch;

impl Collect {
    /// Takes in the members, present and former, that a rule has found with this setup: they are kept as found by its rule, whatever was
    /// put to work meanwhile. Whom collectors follow already stays.
    ///
    /// # Errors
    /// When the store cannot be written.
    pub async fn follow_rule(&self, setup: &Setup, universe: &Universe) -> Result<(), DeskError> {
        let name = &universe.name;
        let followed = setup.config.belonged.get(name);
        let new: Vec<&String> = universe.members.keys().filter(|symbol| followed.is_none_or(|all| !all.contains(*symbol))).collect();
        if new.is_empty() {
            return Ok(());
        }
        let _one_at_a_time = self.listing.taking_in.lock().await;
        tracing::info!(universe = name, members = new.len(), "a rule has found further members, and collectors follow them");
        let (source, list) = found_by_rule(&setup.config, name);
        let found = NewListFetch {
            source: source.to_owned(),
            list,
            asked_at: self.desk.clock.now(),
            request: format!("universes/{name}.toml"),
            body: None,
            rows: Ok(new.into_iter().map(|symbol| (symbol.clone(), "{}".to_owned())).collect()),
            refused: 0,
            rolling: true,
        };
        self.desk.store.keep_list(found).await?;
        self.renew().await?;
        self.desk.events.tell(Event::Lists);
        Ok(())
    }
}
