//! What can be traded, as last told by the instrument lists.

use crate::{Result, Store, StoreError};
use mizuno_core::{Decimal, Instrument, Timestamp, TradeDate, instrument::FormerSymbol};
use std::collections::{HashMap, HashSet};

impl Store {
    /// Takes in an instrument list: new ones are added, known ones brought up to date, none removed. One whose former symbol
    /// is known on its venue, and no longer in the list, is that one renamed: it keeps its number, and with it its series,
    /// excuses and lineage. A symbol that a known instrument gave up is not taken for a new one, unless its listing is later.
    /// `listed_by` is the list of a source that they come from; a list of the configuration is none. What a source's list said before is kept
    /// with the instant until which it did.
    ///
    /// # Errors
    /// When the database cannot be written.
    pub async fn put_instruments(&self, list: Vec<Instrument>, listed_by: Option<String>) -> Result<()> {
        let news = self.news_of(&list, listed_by.as_deref()).await?;
        if news.is_empty() {
            return Ok(());
        }
        let roster = self.roster.clone();
        self.writer
            .run(move |c, stamp| {
                Box::pin(async move {
                    roster.note_list(stamp);
                    for i in &news {
                        for former in i.former.iter().rev().filter(|f| list.iter().all(|other| other.symbol != f.symbol)) {
                            sqlx::query!(
                                "UPDATE instrument SET symbol = ?1 WHERE symbol = ?2 AND venue = ?3
                                     AND NOT EXISTS (SELECT 1 FROM instrument WHERE symbol = ?1)",
                                i.symbol,
                                former.symbol,
                                i.venue
                            )
                            .execute(&mut *c)
                            .await?;
                        }
                        let given_up = sqlx::query_scalar!(
                            "SELECT max(f.until) AS \"until: i64\" FROM former_symbol AS f JOIN instrument AS o ON o.id = f.instrument_id
                             WHERE f.symbol = ?1 AND o.venue = ?2 AND NOT EXISTS (SELECT 1 FROM instrument WHERE symbol = ?1)",
                            i.symbol,
                            i.venue
                        );
                        if let Some(until) = given_up.fetch_one(&mut *c).await?
                            && i.listed.is_none_or(|listed| i64::from(listed.0) < until)
                        {
                            continue;
                        }
                        if listed_by.is_some() {
                            sqlx::query!(
                                "INSERT INTO instrument_before (instrument_id, until, name, kind, venue, currency, tick_size, multiplier, listed,
                                     last_traded, expiry, strike, product, first_notice, leverage)
                                 SELECT id, ?1, name, kind, venue, currency, tick_size, multiplier, listed, last_traded, expiry, strike, product,
                                     first_notice, leverage
                                 FROM instrument WHERE symbol = ?2
                                 ON CONFLICT DO NOTHING",
                                stamp.0,
                                i.symbol
                            )
                            .execute(&mut *c)
                            .await?;
                        }
                        let (tick, multiplier) = (i.tick_size.map(|d| d.to_string()), i.multiplier.map(|d| d.to_string()));
                        let (listed, last) = (i.listed.map(|d| d.0), i.last_traded.map(|d| d.0));
                        let (expiry, strike) = (i.expiry.map(|d| d.0), i.strike.map(|d| d.to_string()));
                        let (notice, leverage) = (i.first_notice.map(|d| d.0), i.leverage.map(|d| d.to_string()));
                        let id = sqlx::query_scalar!(
                            "INSERT INTO instrument (symbol, name, kind, venue, currency, tick_size, multiplier, listed, last_traded, expiry, strike,
                                 product, first_notice, leverage, listed_by, added_at)
                             VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
                             ON CONFLICT (symbol) DO UPDATE SET name = excluded.name, kind = excluded.kind, venue = excluded.venue,
                                 currency = excluded.currency, tick_size = excluded.tick_size, multiplier = excluded.multiplier,
                                 listed = excluded.listed, last_traded = excluded.last_traded, expiry = excluded.expiry,
                                 strike = excluded.strike, product = excluded.product, first_notice = excluded.first_notice,
                                 leverage = excluded.leverage, listed_by = excluded.listed_by
                             RETURNING id",
                            i.symbol,
                            i.name,
                            i.kind,
                            i.venue,
                            i.currency,
                            tick,
                            multiplier,
                            listed,
                            last,
                            expiry,
                            strike,
                            i.product,
                            notice,
                            leverage,
                            listed_by,
                            stamp.0
                        )
                        .fetch_one(&mut *c)
                        .await?;
                        for former in &i.former {
                            sqlx::query!(
                                "INSERT INTO former_symbol (instrument_id, symbol, until, learned_at) VALUES (?, ?, ?, ?)
                                 ON CONFLICT DO UPDATE SET until = excluded.until",
                                id,
                                former.symbol,
                                former.until.0,
                                stamp.0
                            )
                            .execute(&mut *c)
                            .await?;
                        }
                    }
                    Ok(())
                })
            })
            .await
    }

    /// Those of a list that are not known just as it says: thousands need not be written again at each start.
    async fn news_of(&self, list: &[Instrument], listed_by: Option<&str>) -> Result<Vec<Instrument>> {
        let by = sqlx::query!("SELECT symbol, listed_by FROM instrument").fetch_all(&self.readers).await?;
        let by: HashMap<String, Option<String>> = by.into_iter().map(|r| (r.symbol, r.listed_by)).collect();
        let known: HashMap<String, Instrument> = self.instruments().await?.into_iter().map(|i| (i.symbol.clone(), i)).collect();
        let is_news = |i: &&Instrument| {
            let (Some(known), Some(owner)) = (known.get(&i.symbol), by.get(&i.symbol)) else { return true };
            let same_names = i.former.iter().all(|f| known.former.contains(f));
            let is_known = same_names && *known == Instrument { former: known.former.clone(), ..(*i).clone() };
            !is_known || owner.as_deref() != listed_by
        };
        Ok(list.iter().filter(is_news).cloned().collect())
    }

    /// The symbols that a list of a source named first, as `SOURCE/LIST`.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn symbols_of(&self, listed_by: &str) -> Result<HashSet<String>> {
        let rows = sqlx::query_scalar!("SELECT symbol FROM instrument WHERE listed_by = ?", listed_by).fetch_all(&self.readers).await?;
        Ok(rows.into_iter().collect())
    }

    /// The instruments that lists of sources named first, by symbol.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn listed_instruments(&self) -> Result<Vec<Instrument>> {
        self.listed_instruments_at(Timestamp::MAX).await
    }

    /// How instruments that are called otherwise now were called at an instant: the symbol then, and the present one.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn symbols_then(&self, at: Timestamp) -> Result<Vec<(String, String)>> {
        let rows = sqlx::query!(
            "SELECT f.symbol AS was, i.symbol AS present FROM former_symbol AS f JOIN instrument AS i ON i.id = f.instrument_id
             WHERE f.learned_at > ?1 AND f.learned_at =
                 (SELECT min(g.learned_at) FROM former_symbol AS g WHERE g.instrument_id = f.instrument_id AND g.learned_at > ?1)
             ORDER BY f.symbol",
            at.0
        );
        Ok(rows.fetch_all(&self.readers).await?.into_iter().map(|r| (r.was, r.present)).collect())
    }

    /// Those of them that had been named by an instant, by their present symbols.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn listed_instruments_at(&self, at: Timestamp) -> Result<Vec<Instrument>> {
        self.select_instruments(Some(at)).await
    }

    /// How many instruments lists of sources named or told otherwise after an instant, and how many symbols were given up after it.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn instruments_changed_since(&self, at: Timestamp) -> Result<(i64, i64)> {
        let row = sqlx::query!(
            r#"SELECT (SELECT count(*) FROM instrument WHERE listed_by IS NOT NULL AND added_at > ?1)
                    + (SELECT count(*) FROM instrument_before WHERE until > ?1) AS "listed!: i64",
                (SELECT count(*) FROM former_symbol WHERE learned_at > ?1) AS "renamed!: i64""#,
            at.0
        );
        let row = row.fetch_one(&self.readers).await?;
        Ok((row.listed, row.renamed))
    }

    /// All instruments, by symbol.
    ///
    /// # Errors
    /// When the database cannot be read.
    pub async fn instruments(&self) -> Result<Vec<Instrument>> {
        self.select_instruments(None).await
    }

    /// Those that lists had named by an instant, as they said then, or all as they are.
    async fn select_instruments(&self, listed_at: Option<Timestamp>) -> Result<Vec<Instrument>> {
        let at = listed_at.map(|at| at.0);
        let rows = sqlx::query_as!(
            Facts,
            "SELECT id, symbol, name, kind, venue, currency, tick_size, multiplier, listed, last_traded, expiry, strike, product, first_notice,
                 leverage
             FROM instrument AS i
             WHERE (?1 IS NULL OR (listed_by IS NOT NULL AND added_at <= ?1))
                 AND (?1 IS NULL OR NOT EXISTS (SELECT 1 FROM instrument_before WHERE instrument_id = i.id AND until > ?1))
             UNION ALL
             SELECT i.id, i.symbol, b.name, b.kind, b.venue, b.currency, b.tick_size, b.multiplier, b.listed, b.last_traded, b.expiry, b.strike,
                 b.product, b.first_notice, b.leverage
             FROM instrument_before AS b JOIN instrument AS i ON i.id = b.instrument_id
             WHERE i.added_at <= ?1
                 AND b.until = (SELECT min(until) FROM instrument_before WHERE instrument_id = b.instrument_id AND until > ?1)
             ORDER BY symbol",
            at
        )
        .fetch_all(&self.readers)
        .await?;
        let mut former: HashMap<i64, Vec<FormerSymbol>> = HashMap::new();
        for f in sqlx::query!("SELECT * FROM former_symbol ORDER BY until").fetch_all(&self.readers).await? {
            former.entry(f.instrument_id).or_default().push(FormerSymbol { symbol: f.symbol, until: TradeDate(f.until as i32) });
        }
        let number = |text: Option<String>| {
            text.map(|t| t.parse::<Decimal>().map_err(|_| StoreError::Unreadable { kind: "number", text: t })).transpose()
        };
        rows.into_iter()
            .map(|r| {
                Ok(Instrument {
                    former: former.remove(&r.id).unwrap_or_default(),
                    tick_size: number(r.tick_size)?,
                    multiplier: number(r.multiplier)?,
                    listed: r.listed.map(|d| TradeDate(d as i32)),
                    last_traded: r.last_traded.map(|d| TradeDate(d as i32)),
                    expiry: r.expiry.map(|d| TradeDate(d as i32)),
                    strike: number(r.strike)?,
                    product: r.product,
                    first_notice: r.first_notice.map(|d| TradeDate(d as i32)),
                    leverage: number(r.leverage)?,
                    symbol: r.symbol,
                    name: r.name,
                    kind: r.kind,
                    venue: r.venue,
                    currency: r.currency,
                })
            })
            .collect()
    }
}

/// A row of `instrument`, or of `instrument_before`.
struct Facts {
    id: i64,
    symbol: String,
    name: String,
    kind: String,
    venue: String,
    currency: String,
    tick_size: Option<String>,
    multiplier: Option<String>,
    listed: Option<i64>,
    last_traded: Option<i64>,
    expiry: Option<i64>,
    strike: Option<String>,
    product: Option<String>,
    first_notice: Option<i64>,
    leverage: Option<String>,
}
