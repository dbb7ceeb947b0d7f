//! The events of a calendar (RFC 5545).

use crate::decode::{
    rows::{Row, Sink},
    unreadable,
};
use crate::{Failure, failure::excerpt};
use icalendar::parser::{read_calendar, unfold};
use std::borrow::Cow;

pub(crate) fn each(wanted: &[&str], body: &[u8], sink: &mut Sink<'_>) -> Result<(), Failure> {
    let text = unfold(&String::from_utf8_lossy(body));
    let calendar = read_calendar(&text).map_err(|_| unreadable(format!("not a calendar (RFC 5545): {}", excerpt(body))))?;
    if !text.trim_end().ends_with("END:VCALENDAR") {
        return Err(Failure::new(crate::failure::Class::CutShort, "the calendar ends before END:VCALENDAR"));
    }
    let events = calendar.components.iter().filter(|c| c.name == "VEVENT");
    for (at, event) in events.enumerate() {
        let find = |name: &&str| event.find_prop(name).map(|p| Cow::Owned(p.val.as_ref().as_bytes().to_vec()));
        let fields: Vec<Option<Cow<'_, [u8]>>> = wanted.iter().map(find).collect();
        let shown: Vec<String> = event.properties.iter().map(|p| format!("{}:{}", p.name, p.val)).collect();
        sink(Row { number: at as u64 + 1, text: shown.join(" ").as_bytes(), fields: Ok(&fields) });
    }
    Ok(())
}
