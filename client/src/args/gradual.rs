//! What a new revision serves beside the live one.

use clap::{Args as ClapArgs, Subcommand, ValueEnum};
use kanzlei_model::gradual::{Header, Per, Rules};

/// What the new revision serves, and when it is taken back by itself.
#[derive(ClapArgs, Clone, Default)]
pub struct Share {
    /// Leave the live revision in place, and have the new one serve this share of what comes
    #[arg(long, value_name = "PERCENT", value_parser = percentage)]
    pub share: Option<f64>,
    /// What the share is drawn for: each request, or each key and token
    #[arg(long, value_enum)]
    pub per: Option<Drawn>,
    /// Have it serve requests with this header field
    #[arg(long, value_name = "NAME: VALUE", value_parser = header)]
    pub header: Option<Header>,
    /// Have it serve requests with this key; may be repeated
    #[arg(long, value_name = "NAME")]
    pub key: Vec<String>,
    /// Have it serve jobs with this tag; may be repeated
    #[arg(long, value_name = "TAG")]
    pub tag: Vec<String>,
    /// Take it back when its share of failures or rejections is by this many points above that of the live revision
    #[arg(long, value_name = "POINTS", value_parser = percentage)]
    pub margin: Option<f64>,
    /// Take it back when its 95 % quantile of times is by this much above that of the live revision
    #[arg(long, value_name = "PERCENT", value_parser = percentage)]
    pub slower: Option<f64>,
    /// Compare from this many runs of the new revision on (default: 50)
    #[arg(long, value_name = "RUNS")]
    pub least: Option<u64>,
}

/// What a share is drawn for.
#[derive(Clone, Copy, ValueEnum)]
pub enum Drawn {
    /// Each request and each job
    Request,
    /// Each key and each subject of a token
    Caller,
}

impl Share {
    /// Whether nothing is given.
    pub fn is_empty(&self) -> bool {
        self.share.is_none() && self.header.is_none() && self.key.is_empty() && self.tag.is_empty() && self.of_others()
    }

    fn of_others(&self) -> bool {
        self.per.is_none() && self.margin.is_none() && self.slower.is_none() && self.least.is_none()
    }

    /// These rules over others.
    pub fn over(self, rules: Rules) -> Rules {
        let per = self.per.map(|per| match per {
            Drawn::Request => Per::Request,
            Drawn::Caller => Per::Caller,
        });
        let other = |own: Vec<String>, before: Vec<String>| if own.is_empty() { before } else { own };
        Rules {
            share: self.share.unwrap_or(rules.share),
            per: per.unwrap_or(rules.per),
            header: self.header.or(rules.header),
            keys: other(self.key, rules.keys),
            tags: other(self.tag, rules.tags),
            margin: self.margin.or(rules.margin),
            slower: self.slower.or(rules.slower),
            least: self.least.or(rules.least),
        }
    }
}

/// `10%`, `2.5 %` or `10`.
fn percentage(text: &str) -> Result<f64, String> {
    let number = text.trim().trim_end_matches('%').trim_end();
    let value = number.parse::<f64>().ok().filter(|value| value.is_finite() && *value >= 0.0);
    value.ok_or_else(|| "a percentage, such as 10%".to_owned())
}

/// `X-Ring: new`.
fn header(text: &str) -> Result<Header, String> {
    let (name, value) = text.split_once(':').ok_or("a header field, such as 'X-Ring: new'")?;
    Ok(Header { name: name.trim().to_owned(), value: value.trim().to_owned() })
}

/// What is done with a gradual deploy.
#[derive(Subcommand)]
pub enum GradualAction {
    /// Compare the two revisions
    Show {
        /// The workflow
        name: String,
    },
    /// Change what the new revision serves; what is not named stays
    #[command(after_help = "Example:\n  kanzlei gradual change berth-quote --share 50%")]
    Change {
        /// The workflow
        name: String,
        #[command(flatten)]
        share: Share,
    },
    /// Make the new revision the live one
    Finish {
        /// The workflow
        name: String,
    },
    /// Have the live revision serve everything again
    TakeBack {
        /// The workflow
        name: String,
        /// Why, for the others
        #[arg(long, value_name = "TEXT", default_value = "")]
        reason: String,
    },
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_not_given_stays() {
        let header = |name: &str| Some(Header { name: name.into(), value: "new".into() });
        let before = Rules { share: 10.0, header: header("X-Ring"), margin: Some(2.0), ..Rules::default() };
        let share = Share { share: Some(50.0), tag: vec!["a".into()], ..Share::default() };
        let after = Rules { share: 50.0, tags: vec!["a".into()], ..before.clone() };
        assert_eq!((share.over(before.clone()), Share::default().over(before.clone())), (after, before));
        for (text, wanted) in [("10%", Some(10.0)), ("2.5 %", Some(2.5)), ("0", Some(0.0)), ("-1", None), ("ten", None)]
        {
            assert_eq!(percentage(text).ok(), wanted, "{text}");
        }
        assert_eq!(super::header("X-Ring:  new ").ok(), header("X-Ring"));
    }
}
