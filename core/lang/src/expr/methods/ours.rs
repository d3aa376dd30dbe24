//! The functions ECMAScript has no good answer for: `digest.*` and `list.*`; `time.*` is in `dates`.

use base64::Engine;
use base64::engine::general_purpose::{STANDARD, URL_SAFE_NO_PAD};
use hmac::{Hmac, Mac};
use md5::Md5;
use sha1::Sha1;
use sha2::{Digest, Sha256, Sha384, Sha512};

use super::{arg, function};
use crate::expr::ast::{Arg, BinaryOp, Function};
use crate::expr::eval::{Eval, Res, range_failure, type_failure};
use crate::expr::functions::Static;
use crate::expr::ops;
use crate::expr::script::heap::Items;
use kanzlei_model::hex;
use kanzlei_model::value::{ObjectBuilder, Value};

impl Eval<'_> {
    pub(super) fn ours(&mut self, what: Static, args: &[Value]) -> Res {
        use Static::*;
        self.work(50)?;
        if what.name().starts_with("time.") {
            return self.time(what, args);
        }
        if what.name().starts_with("html.") {
            return self.html(what, args);
        }
        match what {
            DigestHash => {
                let (algorithm, text) = (self.text_at(args, 0)?, self.text_at(args, 1)?);
                self.item_work(text.len() / 4)?;
                let bytes = hash(&algorithm, text.as_bytes())?;
                self.encoded(what, &bytes, args.get(2))
            }
            DigestHmac => {
                let (algorithm, key) = (self.text_at(args, 0)?, self.text_at(args, 1)?);
                let text = self.text_at(args, 2)?;
                self.item_work((key.len() + text.len()) / 4)?;
                let bytes = keyed(&algorithm, key.as_bytes(), text.as_bytes())?;
                self.encoded(what, &bytes, args.get(3))
            }
            DigestSha256 | DigestHmacSha256 | DigestBase64 | DigestFromBase64 | DigestBase64url
            | DigestFromBase64url => {
                let (first, second) = (self.text_at(args, 0)?, self.text_at(args, 1)?);
                self.digest(what, &first, &second)
            }
            DigestUuid => {
                let name = self.text_at(args, 0)?;
                self.item_work(name.len() / 4)?;
                let Some(seed) = self.seed() else { return range_failure("`digest.uuid` is known in a run only") };
                let hash = keyed("sha256", seed.as_bytes(), format!("uuid {name}").as_bytes())?;
                let bytes = hash.first_chunk().copied().unwrap_or_default();
                self.make_text(uuid::Builder::from_random_bytes(bytes).into_uuid().to_string())
            }
            ListChunk => {
                let items = self.items_of(&arg(args, 0), what)?;
                let size = ops::to_integer(self.number_at(args, 1, f64::NAN)?);
                if size < 1.0 {
                    return range_failure("`list.chunk` takes a size of at least 1");
                }
                let size = size.min(items.len().max(1) as f64) as usize;
                self.make_rows(items.chunks(size).map(|chunk| Value::list(chunk.to_vec())).collect())
            }
            ListRange => self.range(args),
            ListZip => {
                let mut lists = Vec::with_capacity(args.len());
                for value in args {
                    lists.push(self.items_of(value, what)?);
                }
                let shortest = lists.iter().map(|list| list.len()).min().unwrap_or(0);
                self.will_make(shortest * lists.len() * 24)?;
                let row = |index: usize| Value::list(lists.iter().map(|list| list[index].clone()).collect());
                self.make_rows((0..shortest).map(row).collect())
            }
            other => range_failure(format!("`{}` needs a function", other.name())),
        }
    }

    /// Digests of a text, and Base64.
    fn digest(&mut self, what: Static, first: &str, second: &str) -> Res {
        self.item_work((first.len() + second.len()) / 4)?;
        match what {
            Static::DigestSha256 => self.make_text(hex::of(&Sha256::digest(first.as_bytes()))),
            Static::DigestHmacSha256 => match Hmac::<Sha256>::new_from_slice(first.as_bytes()) {
                Ok(mut mac) => {
                    mac.update(second.as_bytes());
                    self.make_text(hex::of(&mac.finalize().into_bytes()))
                }
                Err(_) => range_failure("this key cannot be used"),
            },
            Static::DigestBase64 => self.make_text(STANDARD.encode(first.as_bytes())),
            Static::DigestBase64url => self.make_text(URL_SAFE_NO_PAD.encode(first.as_bytes())),
            _ => {
                let decoded = match what {
                    Static::DigestFromBase64url => URL_SAFE_NO_PAD.decode(first.trim_end_matches('=').as_bytes()),
                    _ => STANDARD.decode(first.as_bytes()),
                };
                match decoded.ok().and_then(|bytes| String::from_utf8(bytes).ok()) {
                    Some(decoded) => self.make_text(decoded),
                    None => range_failure(format!("`{}` was given text that is not Base64 of UTF-8", what.name())),
                }
            }
        }
    }

    /// Bytes as text: in hexadecimal, or as the argument says.
    fn encoded(&mut self, what: Static, bytes: &[u8], encoding: Option<&Value>) -> Res {
        let encoding = match encoding {
            None | Some(Value::Undefined) => "hex".into(),
            Some(encoding) => self.text_of(encoding)?,
        };
        match &*encoding {
            "hex" => self.make_text(hex::of(bytes)),
            "base64" => self.make_text(STANDARD.encode(bytes)),
            "base64url" => self.make_text(URL_SAFE_NO_PAD.encode(bytes)),
            other => range_failure(format!("`{}` writes hex, base64 or base64url, not `{other}`", what.name())),
        }
    }

    /// Numbers from one to another by a step.
    fn range(&mut self, args: &[Value]) -> Res {
        let first = self.number_at(args, 0, 0.0)?;
        let (from, to) = if args.len() == 1 { (0.0, first) } else { (first, self.number_at(args, 1, 0.0)?) };
        let step = self.number_at(args, 2, 1.0)?;
        let count = ((to - from) / step).ceil();
        if !count.is_finite() || !step.is_finite() {
            return range_failure("`list.range` takes finite numbers and a step that is not 0");
        }
        let count = count.clamp(0.0, 1e18) as usize;
        self.item_work(count)?;
        self.will_make(count.saturating_mul(24))?;
        self.make_list((0..count).map(|i| Value::Num(from + i as f64 * step)).collect())
    }

    /// What a function makes of each item and what it made of those before, and all of that as a list.
    pub(super) fn scan(&mut self, args: &[Arg]) -> Res {
        let values = self.arg_values(args)?;
        let items = self.items_of(&arg(&values, 0), Static::ListScan)?;
        let Some(function) = function(args, 1) else { return type_failure("`list.scan` needs a function") };
        let mut sum = arg(&values, 2);
        let mut out = Vec::with_capacity(items.len());
        for (index, item) in items.iter().enumerate() {
            self.item_work(1)?;
            sum = self.apply(function, &[sum, item.clone(), Value::Int(index as i64)])?;
            out.push(sum.clone());
        }
        self.make_list(out)
    }

    /// The sum of a list, or of what a function makes of its items.
    fn sum(&mut self, list: &[Value], number_of: Option<&Function>) -> Res {
        let mut sum = Value::Int(0);
        for item in list {
            self.item_work(1)?;
            let made = number_of.map(|function| self.apply_one(function, item)).transpose()?;
            let number = match made.as_ref().unwrap_or(item) {
                number @ (Value::Int(_) | Value::Num(_)) => number,
                other => &Value::Num(self.number_of(other)?),
            };
            sum = ops::binary(BinaryOp::Add, &sum, number);
        }
        Ok(sum)
    }

    /// The functions over lists that accept a function: group, sortBy, sum, unique.
    pub(super) fn list_function(&mut self, what: Static, args: &[Arg]) -> Res {
        let values = self.arg_values(args)?;
        let first = arg(&values, 0);
        let list = self.items_of(&first, what)?;
        let key_of = function(args, 1);
        if what == Static::ListSum {
            return self.sum(&list, key_of);
        }
        let mut keyed = Vec::with_capacity(list.len());
        for item in list.iter() {
            self.item_work(1)?;
            let key = match key_of {
                Some(function) => self.apply_one(function, item)?,
                None => item.clone(),
            };
            keyed.push((key, item.clone()));
        }
        match what {
            Static::ListSortBy => {
                // Sorting pairs by their first place; equal or incomparable keys keep their order.
                let bytes: u64 = keyed.iter().map(|(key, _)| 1 + key.weight() / 16).sum();
                self.work(bytes * (1 + u64::from(keyed.len().max(1).ilog2())))?;
                let positions = ranks(&keyed);
                self.make_list(positions.into_iter().map(|at| keyed[at].1.clone()).collect())
            }
            Static::ListGroup => {
                let mut groups: indexmap::IndexMap<kanzlei_model::value::Str, Vec<Value>> = indexmap::IndexMap::new();
                for (key, item) in keyed {
                    self.work(4)?;
                    groups.entry(self.text_of(&key)?).or_default().push(item);
                }
                let mut builder = ObjectBuilder::with_capacity(groups.len());
                let count = groups.len();
                for (key, group) in groups {
                    let group = self.make_list(group)?;
                    builder.insert(key, group);
                }
                self.make_object(builder, count)
            }
            _ => {
                let mut seen = std::collections::HashSet::new();
                let mut out = Vec::new();
                for (key, item) in keyed {
                    let key = self.settled(&key)?;
                    self.work(8 + key.weight() / 8)?;
                    self.will_make(key.weight().min(1 << 40) as usize)?;
                    if seen.insert((ops::type_of(&key), key.to_json())) {
                        out.push(item);
                    }
                }
                self.make_list(out)
            }
        }
    }
}

/// The algorithms of `digest.hash` and `digest.hmac`, for messages.
const ALGORITHMS: &str = "SHA-256, SHA-384, SHA-512, SHA-1 and MD5";

/// The hash of bytes (FIPS 180-4, RFC 1321).
fn hash(algorithm: &str, bytes: &[u8]) -> Res<Vec<u8>> {
    Ok(match algorithm.to_ascii_lowercase().replace('-', "").as_str() {
        "sha256" => Sha256::digest(bytes).to_vec(),
        "sha384" => Sha384::digest(bytes).to_vec(),
        "sha512" => Sha512::digest(bytes).to_vec(),
        "sha1" => Sha1::digest(bytes).to_vec(),
        "md5" => Md5::digest(bytes).to_vec(),
        _ => return range_failure(format!("`digest.hash` knows {ALGORITHMS}, not `{algorithm}`")),
    })
}

/// The HMAC of bytes (RFC 2104).
fn keyed(algorithm: &str, key: &[u8], bytes: &[u8]) -> Res<Vec<u8>> {
    fn of<M: Mac + hmac::digest::KeyInit>(key: &[u8], bytes: &[u8]) -> Res<Vec<u8>> {
        match <M as hmac::digest::KeyInit>::new_from_slice(key) {
            Ok(mut mac) => {
                mac.update(bytes);
                Ok(mac.finalize().into_bytes().to_vec())
            }
            Err(_) => range_failure("this key cannot be used"),
        }
    }
    match algorithm.to_ascii_lowercase().replace('-', "").as_str() {
        "sha256" => of::<Hmac<Sha256>>(key, bytes),
        "sha384" => of::<Hmac<Sha384>>(key, bytes),
        "sha512" => of::<Hmac<Sha512>>(key, bytes),
        "sha1" => of::<Hmac<Sha1>>(key, bytes),
        "md5" => of::<Hmac<Md5>>(key, bytes),
        _ => range_failure(format!("`digest.hmac` knows {ALGORITHMS}, not `{algorithm}`")),
    }
}

/// Item positions in the order of their keys: numbers before texts, the rest last.
fn ranks(keyed: &[(Value, Value)]) -> Vec<usize> {
    let rank = |value: &Value| match value {
        Value::Int(_) => 0,
        Value::Num(num) if !num.is_nan() => 0,
        Value::Text(_) => 1,
        Value::Bool(_) => 2,
        _ => 3,
    };
    let mut positions: Vec<usize> = (0..keyed.len()).collect();
    positions.sort_by(|a, b| {
        let (a, b) = (&keyed[*a].0, &keyed[*b].0);
        rank(a).cmp(&rank(b)).then_with(|| match (a, b) {
            (Value::Text(a), Value::Text(b)) => ops::compare_text(a, b),
            (Value::Bool(a), Value::Bool(b)) => a.cmp(b),
            _ if rank(a) == 0 => ops::plain_number(a).total_cmp(&ops::plain_number(b)),
            _ => std::cmp::Ordering::Equal,
        })
    });
    positions
}

impl Eval<'_> {
    fn items_of(&self, value: &Value, what: Static) -> Res<Items> {
        match self.items(value) {
            Some(items) => Ok(items),
            None => type_failure(format!("`{}` takes an array, not {}", what.name(), value.kind())),
        }
    }
}
