//! How a moment is written.

use serde::Deserialize;

/// How a moment is written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Stamp {
    /// Whole seconds since the epoch.
    EpochSeconds,
    /// Whole milliseconds since the epoch.
    EpochMillis,
    /// RFC 3339, with its offset.
    Rfc3339,
    /// An strftime pattern on the wall of some zone.
    Pattern(String),
}

impl std::str::FromStr for Stamp {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        match text {
            "epoch-seconds" => Ok(Stamp::EpochSeconds),
            "epoch-millis" => Ok(Stamp::EpochMillis),
            "rfc3339" => Ok(Stamp::Rfc3339),
            pattern => {
                let sample = jiff::civil::datetime(2025, 4, 10, 14, 30, 0, 0);
                let printed = jiff::fmt::strtime::format(pattern, sample);
                let read = printed.as_ref().ok().and_then(|t| jiff::fmt::strtime::parse(pattern, t).ok()?.to_date().ok());
                if read == Some(sample.date()) {
                    Ok(Stamp::Pattern(pattern.to_owned()))
                } else {
                    Err(format!(
                        "`{pattern}` is not a way to write a moment; it is epoch-seconds, epoch-millis, rfc3339, or an strftime pattern with year, month and day like %Y-%m-%d %H:%M"
                    ))
                }
            }
        }
    }
}

/// Which end of a bar its stamp names.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum StampedAt {
    /// The open.
    #[default]
    Open,
    /// The close.
    Close,
}
