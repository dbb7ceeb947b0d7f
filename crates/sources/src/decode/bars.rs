//! Rows read into bars.

use super::{Decoded, Page, Place, Refused, rows, unreadable};
use crate::{Failure, stamp::StampReader};
use mizuno_config::profile::{Answer, Offer};
use mizuno_core::{Bar, Bars, Decimal, Venue};
use std::borrow::Cow;

/// Reads one page's bars into `out`.
pub(super) fn read(
    offer: &Offer,
    venue: &Venue,
    symbol: &str,
    most: usize,
    number: u32,
    page: &Page<'_>,
    out: &mut Decoded,
) -> Result<(), Failure> {
    let answer = &offer.answer;
    let (Some(columns), Some(stamp)) = (&answer.columns, &answer.stamp) else {
        return Err(unreadable("the profile says not where a bar's parts stand".to_owned()));
    };
    let wanted = super::wanted(answer);
    let volume = columns.volume.as_ref().map(|_| 5);
    let interest = columns.open_interest.as_ref().map(|_| 5 + usize::from(volume.is_some()));
    let clock = columns.clock.as_ref().map(|_| wanted.len() - 1);
    let reader = Reader { answer, offer, wanted: &wanted, volume, interest, clock };
    let zone = answer.zone.as_ref().unwrap_or(&venue.zone);
    // Room for about as many bars as there are: few sources write one in less.
    out.bars.rows.reserve(page.body.len() / 48);
    out.places.reserve(page.body.len() / 48);
    let mut stamps = StampReader::new(stamp, answer.stamped_at, zone, offer.interval);
    rows::each(answer, symbol, most, page, &wanted, false, &mut |row| {
        out.rows += 1;
        let place = Place { page: number, row: row.number };
        let read = row.fields.and_then(|fields| reader.bar(fields, &mut stamps));
        match read {
            Ok(bar) => {
                out.bars.rows.push(bar);
                out.places.push(place);
            }
            Err(reason) => out.refused.push(Refused { place, reason }),
        }
    })
}

/// What reading a row needs to know of its profile.
struct Reader<'p> {
    answer: &'p Answer,
    offer: &'p Offer,
    wanted: &'p [&'p str],
    volume: Option<usize>,
    interest: Option<usize>,
    clock: Option<usize>,
}

impl Reader<'_> {
    fn bar(&self, fields: &[Option<Cow<'_, [u8]>>], stamps: &mut StampReader<'_>) -> Result<Bar, String> {
        let value = |place: usize| {
            let field = fields[place].as_deref().filter(|f| !f.is_empty());
            field.filter(|f| !self.answer.missing.iter().any(|m| m.as_bytes() == *f))
        };
        let number = |place: usize| {
            let named = |e: String| format!("{}: {e}", self.wanted[place]);
            let text = value(place).ok_or_else(|| named("is absent".to_owned()))?;
            let read = match self.answer.round_decimals {
                Some(decimals) if place < 5 => Decimal::parse_rounded(text, decimals),
                _ => Decimal::parse(text),
            };
            read.map_err(|e| named(e.to_string()))
        };
        let time = value(0).ok_or_else(|| format!("{}: is absent", self.wanted[0]))?;
        let slot = match self.clock.and_then(value) {
            Some(clock) => stamps.read(&[time, clock].join(&b' '))?,
            None => stamps.read(time)?,
        };
        let prices = [number(1)?, number(2)?, number(3)?, number(4)?];
        let volume = match self.volume.filter(|place| value(*place).is_some()) {
            Some(place) => Some(in_ones(number(place)?, self.offer.volume_unit)?),
            None => None,
        };
        let interest = self.interest.filter(|place| value(*place).is_some()).map(|place| contracts(number(place)?)).transpose()?;
        Ok(Bar::new(slot, prices, volume).with_open_interest(interest))
    }
}

/// An open interest that fits into 18 digits, six of them after the point.
fn contracts(number: Decimal) -> Result<Decimal, String> {
    let whole = if number.scale > 6 { number.at_scale(6) } else { Some(number) };
    let fits = whole.filter(|n| n.whole_digits() <= 12);
    fits.ok_or_else(|| format!("an open interest of {number} has more than 12 digits before the point, or more than 6 after it"))
}

/// A volume in units of `unit` as a volume in ones.
fn in_ones(volume: Decimal, unit: u32) -> Result<Decimal, String> {
    let mantissa = volume.mantissa.checked_mul(i64::from(unit));
    let ones = mantissa.and_then(|mantissa| Decimal { mantissa, ..volume }.at_scale(volume.scale));
    ones.ok_or_else(|| format!("a volume of {volume} times {unit} does not fit"))
}

/// Bid and ask joined on time into the mid between them; a slot that one side lacks has no mid.
pub(super) fn joined(bid: Decoded, ask: Decoded) -> Decoded {
    let (mids, too_precise) = mizuno_core::bar::mid(&bid.bars, &ask.bars);
    let mut refused = bid.refused;
    refused.extend(ask.refused);
    let reason = "half-way between bid and ask takes more digits than can be kept exactly (18)";
    refused.extend(too_precise.into_iter().map(|at| Refused { place: bid.places[at], reason: reason.to_owned() }));
    let places = mids.iter().map(|(_, at)| bid.places[*at]).collect();
    let bars: Bars = mids.into_iter().map(|(bar, _)| bar).collect();
    Decoded { rows: bid.rows.max(ask.rows), bars, places, refused }
}
