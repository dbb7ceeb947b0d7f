//! What an answer will be, before a byte of it is served.

use crate::{
    Research,
    answer::{Member, Prepared, decimals},
    question::Joined,
    reading::Subject,
};
use mizuno_core::{
    Completeness,
    adjust::{Adjust, Adjustment, Anchor, Effect},
    roll::Join,
};
use mizuno_desk::DeskError;

/// What is told of one series of an answer.
#[derive(Clone, Debug)]
pub struct Told {
    /// How many bars are held in the range; of a golden series, slots that any source has.
    pub bars: u64,
    /// How complete it is there.
    pub completeness: Option<Completeness>,
    /// The sources that take part, in the order of their rank where they have one, each with how its prices come to be as traded.
    pub sources: Vec<Basis>,
    /// Sources that do not take part, each with the reason.
    pub left_out: Vec<LeftOut>,
    /// Blocks that are opened for it.
    pub blocks: u64,
    /// Their bytes.
    pub bytes: u64,
}

impl Research {
    /// Tells of each series of an answer what it is made of and how much is read for it.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub async fn explain(&self, prepared: &Prepared) -> Result<Vec<Told>, DeskError> {
        let mut out = vec![];
        for member in &prepared.members {
            let (mut blocks, mut bytes) = (0, 0);
            for row in member.subject.rows() {
                let read = self.desk.store.to_read(&row, &member.wanted.span).await?;
                (blocks, bytes) = (blocks + read.0, bytes + read.1);
            }
            out.push(told(member, blocks, bytes));
        }
        Ok(out)
    }
}

/// A source, with how its prices come to be as traded.
type Basis = (String, String);
/// A source that does not take part, with the reason.
type LeftOut = (String, String);

/// The sources of a series, each with how its prices come to be as traded, and those that do not take part with the reason.
fn whose(subject: &Subject) -> (Vec<Basis>, Vec<LeftOut>) {
    match subject {
        Subject::One(row) => (vec![(row.key.source.clone(), "as the source tells it".to_owned())], vec![]),
        Subject::Delisting(_) => (vec![("delisting".to_owned(), "the price of the delisting".to_owned())], vec![]),
        Subject::Chain(legs) => {
            let (mut sources, mut left_out) = (vec![], vec![]);
            for (found, without) in legs.iter().map(|leg| whose(&leg.subject)) {
                sources.extend(found.into_iter().filter(|one| !sources.contains(one)).collect::<Vec<_>>());
                left_out.extend(without.into_iter().filter(|one| !left_out.contains(one)).collect::<Vec<_>>());
            }
            (sources, left_out)
        }
        Subject::Golden(lineup) => {
            // In the order of the newest ranks.
            let order: Vec<usize> = lineup.ranks.last().map_or_else(|| (0..lineup.parts.len()).collect(), |(_, places)| places.clone());
            let part = |at: &usize| lineup.parts.get(*at).map(|p| (p.row.key.source.clone(), p.basis_in_words()));
            let left_out = lineup.left_out.iter().map(|l| (l.source.clone(), l.why.clone())).collect();
            (order.iter().filter_map(part).collect(), left_out)
        }
    }
}

fn told(member: &Member, blocks: u64, bytes: u64) -> Told {
    let (sources, left_out) = whose(&member.subject);
    Told { bars: member.completeness.map_or(0, |c| c.held), completeness: member.completeness, sources, left_out, blocks, bytes }
}

impl Prepared {
    /// How the prices of the answer come to be what they are, in a sentence.
    #[must_use]
    pub fn adjustment(&self) -> String {
        let ended: Vec<&str> =
            self.members.iter().filter(|m| m.ends_with_a_last_price()).map(|m| m.wanted.instrument.symbol.as_str()).collect();
        let made = self.of_actions_and_rolls();
        match ended.is_empty() {
            true => made,
            false => format!("{made}; {} with the price of the delisting as the last bar", ended.join(", ")),
        }
    }

    fn of_actions_and_rolls(&self) -> String {
        let question = &self.resolved.question;
        if let Some(Adjustment { which, anchor }) = question.adjust {
            let actions = match which {
                Adjust::Splits => "splits and bonus issues",
                Adjust::All => "splits, bonus issues, dividends, rights and spin-offs",
            };
            let anchor = match anchor {
                Anchor::Newest => "at the newest session of each series".to_owned(),
                Anchor::Oldest => "at the oldest session of each series".to_owned(),
                Anchor::Date(date) => format!("on {date}, and no later action counts"),
            };
            let decimals = decimals(question.shape.round);
            let by_minutes = self.members.iter().any(|m| m.adjusted.as_ref().is_some_and(|a| a.by_minutes));
            let closes = if by_minutes { "; held against the closes of minutes, where no daily bars are held" } else { "" };
            return format!(
                "prices adjusted for {actions}; as traded {anchor}; rounded once to {decimals} decimals, half to even; volumes by splits and \
                 bonus issues{closes}"
            );
        }
        let mut chains = self.members.iter().filter_map(|m| m.wanted.chain.as_ref()).peekable();
        if chains.peek().is_some()
            && let Some(Joined { by, oldest }) = question.rolls
        {
            let at = if oldest { "oldest" } else { "newest" };
            let is_exchanged = chains.any(|chain| chain.rolled.rolls.iter().any(|roll| roll.for_one.is_some()));
            let exchanged = if is_exchanged { ", or by the exchange ratio of the table" } else { "" };
            return match by {
                Join::Difference => {
                    format!("prices of contracts joined by the differences of their closes; as traded in the {at} contract of each chain")
                }
                Join::Ratio => format!(
                    "prices of contracts joined by the ratios of their closes{exchanged}; as traded in the {at} contract of each chain; rounded once to {} \
                     decimals, half to even",
                    decimals(question.shape.round)
                ),
            };
        }
        match &question.sources[..] {
            [] => "prices as traded; prices that a source adjusted are brought back by the known actions".to_owned(),
            [source] => format!("prices as {source} tells them"),
            _ => "prices as each source tells them; golden ones as traded".to_owned(),
        }
    }

    /// How many actions of its series are applied, and how many are not.
    #[must_use]
    pub fn actions_in_figures(&self) -> Option<String> {
        let judged = || self.members.iter().filter_map(|m| m.adjusted.as_ref()).flat_map(|a| &a.actions).map(|(_, j)| &j.effect);
        judged().next()?;
        let count = |of: fn(&Effect) -> bool| judged().filter(|e| of(e)).count();
        let (applied, not) = (count(|e| matches!(e, Effect::Applied { .. })), count(|e| matches!(e, Effect::Not(_))));
        let beside = judged().count() - applied - not;
        Some(format!("applied={applied}, not-applied={not}, not-counted={beside}"))
    }

    /// What the numbers mean, in a sentence.
    #[must_use]
    pub fn units(&self) -> String {
        let mut currencies: Vec<&str> = self.members.iter().map(|m| m.wanted.instrument.currency.as_str()).collect();
        currencies.sort_unstable();
        currencies.dedup();
        format!("prices in {} a unit; volumes in units traded", currencies.join(", "))
    }
}
