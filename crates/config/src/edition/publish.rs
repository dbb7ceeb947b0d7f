//! Where editions are published.

use crate::text;
use serde::Deserialize;

/// Object storage to which editions are published.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Publish {
    /// `s3://BUCKET/PREFIX`.
    pub to: String,
    /// The address of a storage that speaks S3, where it is not the usual one of its region.
    #[serde(default)]
    pub endpoint: Option<String>,
    /// Its region.
    #[serde(default = "usual_region")]
    pub region: String,
    /// Under which name this service publishes, so that several share a prefix.
    pub writer: String,
    /// How many of the newest stay there; all that were not withdrawn when left out.
    #[serde(default)]
    pub keep: Option<u32>,
}

fn usual_region() -> String {
    "us-east-1".to_owned()
}

impl Publish {
    /// The bucket, and the prefix in it.
    #[must_use]
    pub fn place(&self) -> Option<(&str, &str)> {
        let rest = self.to.strip_prefix("s3://")?;
        let (bucket, prefix) = rest.split_once('/').unwrap_or((rest, ""));
        let is_plain = |text: &str| text.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.' | '/' | '='));
        let sound = !bucket.is_empty() && is_plain(bucket) && is_plain(prefix) && !prefix.split('/').any(|part| part == "..");
        sound.then_some((bucket, prefix.trim_matches('/')))
    }

    /// The keys of a spec's editions begin with this, without a slash behind it.
    #[must_use]
    pub fn keys(&self, spec: &str) -> String {
        let prefix = self.place().map_or("", |(_, prefix)| prefix);
        [prefix, spec, &self.writer].into_iter().filter(|part| !part.is_empty()).collect::<Vec<_>>().join("/")
    }

    /// Those of one edition.
    #[must_use]
    pub fn keys_of(&self, spec: &str, number: i64) -> String {
        format!("{}/{number:06}", self.keys(spec))
    }

    /// The address of an edition's folder.
    #[must_use]
    pub fn folder(&self, spec: &str, number: i64) -> String {
        format!("s3://{}/{}", self.place().map_or("", |(bucket, _)| bucket), self.keys_of(spec, number))
    }

    pub(super) fn problems(&self) -> Vec<String> {
        let mut wrong = vec![];
        if self.place().is_none() {
            wrong.push(format!("publish.to: `{}` is no place; write s3://BUCKET/PREFIX", self.to));
        }
        if !text::is_name(&self.writer) {
            wrong.push(format!("publish.writer: `{}` is no name; use letters, digits and hyphens", self.writer));
        }
        if self.keep == Some(0) {
            wrong.push("publish.keep: at least the newest one stays there".to_owned());
        }
        if let Some(endpoint) = self.endpoint.as_ref().filter(|e| !e.starts_with("http://") && !e.starts_with("https://")) {
            wrong.push(format!("publish.endpoint: `{endpoint}` is no address; write https://HOST"));
        }
        wrong
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_place_is_a_bucket_and_a_prefix_and_a_writer_has_a_name() {
        let read = |text: &str| toml::from_str::<Publish>(text).unwrap();
        let sound = read("to = \"s3://tarn-street/editions/\"\nwriter = \"mere\"\n");
        assert_eq!((sound.place(), sound.region.as_str()), (Some(("tarn-street", "editions")), "us-east-1"));
        assert_eq!(sound.folder("monthly", 7), "s3://tarn-street/editions/monthly/mere/000007");
        let bare = read("to = \"s3://tarn-street\"\nwriter = \"mere\"\n");
        assert_eq!((bare.place(), bare.keys("monthly")), (Some(("tarn-street", "")), "monthly/mere".to_owned()));
        for (more, told) in [
            ("to = \"/tmp/editions\"\nwriter = \"mere\"\n", "write s3://BUCKET/PREFIX"),
            ("to = \"s3://tarn/../other\"\nwriter = \"mere\"\n", "write s3://BUCKET/PREFIX"),
            ("to = \"s3://tarn\"\nwriter = \"a/b\"\n", "use letters, digits and hyphens"),
            ("to = \"s3://tarn\"\nwriter = \"mere\"\nkeep = 0\n", "at least the newest one stays there"),
            ("to = \"s3://tarn\"\nwriter = \"mere\"\nendpoint = \"storage\"\n", "write https://HOST"),
        ] {
            assert!(read(more).problems().join("\n").contains(told), "{more}");
        }
    }
}
