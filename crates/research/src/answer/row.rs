//! A row of an answer before its cells are made.

use super::{extra::Extra, made::Read};
use mizuno_core::{Bar, Slot, derived::Value};

/// A row.
#[derive(Clone, Debug)]
pub(super) struct Row {
    /// Its slot.
    pub slot: Slot,
    /// The bar there with the place of its source, where there is one.
    pub bar: Option<(Bar, u16)>,
    /// What is told of it beside, where it was made of finer ones.
    pub extra: Option<Box<Extra>>,
    /// What was worked out of it and those before, where something was.
    pub derived: Box<[Option<Value>]>,
}

/// A row as its cells are made of it.
#[derive(Clone, Copy)]
pub(super) struct Shown<'r> {
    pub(super) slot: Slot,
    pub(super) bar: Option<(&'r Bar, u16)>,
    pub(super) extra: Option<&'r Extra>,
    pub(super) derived: &'r [Option<Value>],
}

impl Row {
    /// It as its cells are made of it.
    pub(super) fn shown(&self) -> Shown<'_> {
        let bar = self.bar.as_ref().map(|(bar, place)| (bar, *place));
        Shown { slot: self.slot, bar, extra: self.extra.as_deref(), derived: &self.derived }
    }
}

impl Read {
    /// A bar as the cells of its row are made of it.
    pub(super) fn shown(&self, at: usize) -> Shown<'_> {
        let bar = &self.bars[at];
        let derived = self.derived.get(at).map(AsRef::as_ref).unwrap_or_default();
        Shown { slot: bar.slot, bar: Some((bar, self.place(at))), extra: self.extras.get(at), derived }
    }
}
