//! Kept answers, as the decoder takes them.

use mizuno_sources::Page;
use mizuno_store::fetch::AnsweredPage;

/// Kept pages as the decoder takes them.
#[must_use]
pub fn to_understand(answered: &[AnsweredPage]) -> Vec<Page<'_>> {
    answered
        .iter()
        .map(|p| Page { part: p.part.as_deref(), media_type: p.media_type.as_deref(), body: p.body.as_deref().unwrap_or_default() })
        .collect()
}
