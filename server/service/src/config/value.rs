//! Values of settings, read from whatever a source has: text, numbers and booleans.

use std::fmt;
use std::marker::PhantomData;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use kanzlei_model::address::Allowed;
use serde::Deserializer;
use serde::de::{Error, Visitor};

/// A type that a setting can have.
pub trait Value: Sized {
    /// What a wrong value is not: `a whole number`.
    const WHAT: &str;

    fn read(text: &str) -> Option<Self>;
}

macro_rules! whole {
    ($($of:ty),*) => {
        $(impl Value for $of {
            const WHAT: &str = "a whole number";

            fn read(text: &str) -> Option<Self> {
                text.parse().ok()
            }
        })*
    };
}

whole!(u32, u64, usize);

impl Value for String {
    const WHAT: &str = "text";

    fn read(text: &str) -> Option<Self> {
        Some(text.to_owned())
    }
}

impl Value for f64 {
    const WHAT: &str = "a number";

    fn read(text: &str) -> Option<Self> {
        text.parse().ok().filter(|number: &f64| number.is_finite())
    }
}

impl Value for Duration {
    const WHAT: &str = "a duration such as `30s`";

    fn read(text: &str) -> Option<Self> {
        kanzlei_model::duration::parse(text).ok()
    }
}

impl Value for bool {
    const WHAT: &str = "`true` or `false`";

    fn read(text: &str) -> Option<Self> {
        text.parse().ok()
    }
}

impl Value for SocketAddr {
    const WHAT: &str = "an address such as `127.0.0.1:7080`";

    fn read(text: &str) -> Option<Self> {
        text.parse().ok()
    }
}

impl Value for Arc<Allowed> {
    const WHAT: &str = "networks in CIDR notation such as `10.1.0.0/16`";

    fn read(text: &str) -> Option<Self> {
        Allowed::read(super::list(text)).ok().map(Arc::new)
    }
}

/// How the log is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Format {
    Text,
    Json,
}

impl Value for Format {
    const WHAT: &str = "`text` or `json`";

    fn read(text: &str) -> Option<Self> {
        match text {
            "text" => Some(Format::Text),
            "json" => Some(Format::Json),
            _ => None,
        }
    }
}

/// Reads a setting from a scalar of any kind.
pub fn lenient<'de, D: Deserializer<'de>, T: Value>(deserializer: D) -> Result<T, D::Error> {
    struct Scalar<T>(PhantomData<T>);

    fn read<T: Value, E: Error>(text: &str) -> Result<T, E> {
        T::read(text).ok_or_else(|| E::custom(T::WHAT))
    }

    impl<T: Value> Visitor<'_> for Scalar<T> {
        type Value = T;

        fn expecting(&self, f: &mut fmt::Formatter) -> fmt::Result {
            f.write_str(T::WHAT)
        }

        fn visit_str<E: Error>(self, text: &str) -> Result<T, E> {
            read(text)
        }

        fn visit_i64<E: Error>(self, n: i64) -> Result<T, E> {
            read(&n.to_string())
        }

        fn visit_u64<E: Error>(self, n: u64) -> Result<T, E> {
            read(&n.to_string())
        }

        fn visit_f64<E: Error>(self, n: f64) -> Result<T, E> {
            read(&n.to_string())
        }

        fn visit_bool<E: Error>(self, b: bool) -> Result<T, E> {
            read(&b.to_string())
        }
    }

    deserializer.deserialize_any(Scalar(PhantomData))
}
