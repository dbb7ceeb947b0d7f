//! How rows are found in each form of answer. To add one: a file here, its word in `config::profile::Form`, and its line
//! in [`super::rows`].

pub(crate) mod delimited;
pub(crate) mod html;
pub(crate) mod icalendar;
pub(crate) mod json;
pub(crate) mod parquet;
