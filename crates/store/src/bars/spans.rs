//! Sets of slots as bytes: for each span, how far after the last one it
//! begins and how long it is, in steps of the interval, as LEB128 varints.

use integer_encoding::VarInt;
use mizuno_core::{Interval, Slot, Spans};

pub(crate) fn encode(spans: &Spans, interval: Interval) -> Vec<u8> {
    let unit = unit(interval);
    let mut out = vec![];
    let mut at = 0i64;
    for span in spans.iter() {
        out.extend(((span.start.0 - at) / unit).encode_var_vec());
        out.extend(((span.end.0 - span.start.0) / unit).encode_var_vec());
        at = span.end.0;
    }
    out
}

/// `None` when the bytes are not such a set.
pub(crate) fn decode(bytes: &[u8], interval: Interval) -> Option<Vec<mizuno_core::Span>> {
    let unit = unit(interval);
    let (mut rest, mut at, mut out) = (bytes, 0i64, Vec::with_capacity(bytes.len() / 3));
    while !rest.is_empty() {
        let (skip, n) = i64::decode_var(rest)?;
        let (length, m) = i64::decode_var(&rest[n..])?;
        let start = at + skip * unit;
        at = start + length * unit;
        out.push(Slot(start)..Slot(at));
        rest = &rest[n + m..];
    }
    Some(out)
}

/// A whole second divides every intraday stamp and step; a day every date.
fn unit(interval: Interval) -> i64 {
    if interval.is_intraday() { mizuno_core::time::SECOND } else { 1 }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn what_is_held_reads_back(starts in prop::collection::vec((-5_000i64..1_000_000_000, 1i64..500), 0..40), daily in any::<bool>()) {
            let interval = if daily { Interval::Daily } else { Interval::MINUTE };
            let unit = unit(interval);
            let set: Spans = starts.iter().map(|&(s, n)| Slot(s * unit)..Slot((s + n) * unit)).collect();
            let read: Spans = decode(&encode(&set, interval), interval).unwrap().into_iter().collect();
            prop_assert_eq!(read, set);
        }
    }
}
