//! Texts compared and numbers written as a language does it (ECMA-402): `localeCompare` and `toLocaleString`.
//!
//! The locale is always named, so that the result is the same on every machine. Orders and signs are those of the Common Locale Data
//! Repository, which is compiled in.

use std::cell::RefCell;
use std::collections::HashMap;
use std::rc::Rc;

use fixed_decimal::{Decimal, FloatPrecision, SignedRoundingMode, UnsignedRoundingMode};
use icu_collator::CollatorBorrowed;
use icu_collator::options::{CollatorOptions, Strength};
use icu_decimal::DecimalFormatter;
use icu_decimal::options::GroupingStrategy;
use icu_locale_core::Locale;

use super::arg;
use crate::expr::eval::{Eval, Res, range_failure};
use kanzlei_model::value::Value;

/// The locales that are known (BCP 47).
pub const LOCALES: &[&str] =
    &["da", "de", "de-AT", "de-CH", "en", "en-GB", "es", "fi", "fr", "it", "nb", "nl", "nn", "pl", "pt", "pt-PT", "sv"];
const LEAST: &str = "minimumFractionDigits";
const MOST: &str = "maximumFractionDigits";
/// The most digits behind the point.
const MOST_DIGITS: f64 = 100.0;
/// Digits behind the point where nothing else is said (ECMA-402 §15.1.3).
const DIGITS: f64 = 3.0;

/// What a comparison looks at.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
struct Order {
    locale: &'static str,
    numeric: bool,
    strength: u8,
}

thread_local! {
    /// One for each locale and set of options, made when it is first used; their number is bounded by those of both.
    static COLLATORS: RefCell<HashMap<Order, Rc<CollatorBorrowed<'static>>>> = RefCell::default();
    static FORMATTERS: RefCell<HashMap<(&'static str, bool), Rc<DecimalFormatter>>> = RefCell::default();
}

fn parsed(tag: &str) -> Res<Locale> {
    Locale::try_from_str(tag).or_else(|_| range_failure(format!("`{tag}` is no locale")))
}

fn collator(order: Order) -> Res<Rc<CollatorBorrowed<'static>>> {
    if let Some(known) = COLLATORS.with_borrow(|all| all.get(&order).cloned()) {
        return Ok(known);
    }
    let tag = if order.numeric { format!("{}-u-kn", order.locale) } else { order.locale.to_owned() };
    let mut options = CollatorOptions::default();
    options.strength = Some(match order.strength {
        1 => Strength::Primary,
        2 => Strength::Secondary,
        _ => Strength::Tertiary,
    });
    match CollatorBorrowed::try_new((&parsed(&tag)?).into(), options) {
        Ok(made) => {
            let made = Rc::new(made);
            COLLATORS.with_borrow_mut(|all| all.insert(order, made.clone()));
            Ok(made)
        }
        Err(_) => range_failure(format!("texts are not compared in the locale `{}`", order.locale)),
    }
}

fn formatter(locale: &'static str, groups: bool) -> Res<Rc<DecimalFormatter>> {
    if let Some(known) = FORMATTERS.with_borrow(|all| all.get(&(locale, groups)).cloned()) {
        return Ok(known);
    }
    let grouping = if groups { GroupingStrategy::Auto } else { GroupingStrategy::Never };
    match DecimalFormatter::try_new((&parsed(locale)?).into(), grouping.into()) {
        Ok(made) => {
            let made = Rc::new(made);
            FORMATTERS.with_borrow_mut(|all| all.insert((locale, groups), made.clone()));
            Ok(made)
        }
        Err(_) => range_failure(format!("numbers are not written in the locale `{locale}`")),
    }
}

impl Eval<'_> {
    /// The locale that an argument names.
    fn locale(&mut self, value: &Value) -> Res<&'static str> {
        let name = self.text_of(value)?;
        match LOCALES.iter().find(|known| **known == &*name) {
            Some(known) => Ok(known),
            None => range_failure(format!("`{name}` is none of the locales {}", LOCALES.join(", "))),
        }
    }

    /// Where a text stands to another in the order of a language: -1, 0 or 1.
    pub(super) fn locale_compare(&mut self, text: &str, args: &[Value]) -> Res {
        let other = self.text_at(args, 0)?;
        let locale = self.locale(&arg(args, 1))?;
        // In a script they are an object that it can change.
        let options = self.settled(&arg(args, 2))?;
        let numeric = options.member("numeric").is_some_and(|value| *value == Value::Bool(true));
        let strength = match options.member("sensitivity").and_then(Value::as_text) {
            Some("base") => 1,
            Some("accent") => 2,
            None | Some("variant") => 3,
            Some(other) => return range_failure(format!("`sensitivity` is base, accent or variant, not `{other}`")),
        };
        // A weight is looked up for each character, and accents are ordered.
        self.item_work((text.len() + other.len()) / 2)?;
        let order = collator(Order { locale, numeric, strength })?.compare(text, &other);
        Ok(Value::Int(order as i64))
    }

    /// A number as it is written in a language.
    pub(super) fn locale_number(&mut self, on: &Value, args: &[Value]) -> Res {
        let locale = self.locale(&arg(args, 0))?;
        let options = self.settled(&arg(args, 1))?;
        let digits = [LEAST, MOST].map(|name| match options.member(name) {
            None | Some(Value::Undefined) => Ok(None),
            Some(value) => match self.number_of(value)?.trunc() {
                count if (0.0..=MOST_DIGITS).contains(&count) => Ok(Some(count)),
                _ => range_failure(format!("`{name}` is a number from 0 to {MOST_DIGITS}")),
            },
        });
        let [least, most] = digits;
        let (least, most) = match (least?, most?) {
            (Some(least), Some(most)) if least > most => {
                return range_failure(format!("`{LEAST}` is not above `{MOST}`"));
            }
            (Some(least), most) => (least, most.unwrap_or(DIGITS.max(least))),
            (None, most) => (0.0, most.unwrap_or(DIGITS)),
        };
        let groups = options.member("useGrouping").is_none_or(|value| *value != Value::Bool(false));
        self.work(200)?;
        let number = self.number_of(on)?;
        if !number.is_finite() {
            let text = if number.is_nan() {
                "NaN"
            } else if number > 0.0 {
                "∞"
            } else {
                "-∞"
            };
            return self.make_text(text.to_owned());
        }
        let mut decimal = match on {
            Value::Int(whole) => Decimal::from(*whole),
            _ => match Decimal::try_from_f64(number, FloatPrecision::RoundTrip) {
                Ok(decimal) => decimal,
                Err(_) => return range_failure("this number cannot be written"),
            },
        };
        decimal.round_with_mode(-(most as i16), SignedRoundingMode::Unsigned(UnsignedRoundingMode::HalfExpand));
        decimal.absolute.trim_end();
        decimal.absolute.pad_end(-(least as i16));
        let text = formatter(locale, groups)?.format_to_string(&decimal);
        self.make_text(text)
    }
}
