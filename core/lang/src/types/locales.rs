//! Locales and their options, where a document names them: what the evaluator would refuse is reported before.

use super::infer::Infer;
use super::{Text, Type};
use crate::expr::LOCALES;
use crate::expr::ast::{Arg, MethodCall};
use crate::expr::functions::Method;
use crate::suggest;

impl Infer<'_> {
    /// The locale of a call, and the options behind it.
    pub(super) fn locale(&mut self, call: &MethodCall, args: &[Type]) {
        let place = match call.method {
            Method::LocaleCompare => 1,
            Method::ToLocaleString => 0,
            _ => return,
        };
        let (Some(Arg::Value(expr)), Some(of)) = (call.args.get(place), args.get(place)) else { return };
        self.there(of, expr, "which is no locale");
        for one in of.alternatives() {
            if let Type::Text(Text::One(name)) = one
                && !LOCALES.contains(&&**name)
            {
                self.report("unknown-locale", format!("`{name}` is none of the known locales"), expr.at);
                match suggest::nearest(name, LOCALES.iter().copied()) {
                    Some(near) => self.help(format!("did you mean `{near}`?")),
                    None => self.help(format!("known are {}", LOCALES.join(", "))),
                };
            }
        }
        let (Some(Arg::Value(expr)), Some(Type::Object(options))) = (call.args.get(place + 1), args.get(place + 1))
        else {
            return;
        };
        let number = |name: &str| match options.read(name) {
            Some(Type::Number(Some(number))) => Some(number.trunc()),
            _ => None,
        };
        let (least, most) = (number("minimumFractionDigits"), number("maximumFractionDigits"));
        let fits = |digits: Option<f64>| digits.is_none_or(|digits| (0.0..=100.0).contains(&digits));
        if !fits(least) || !fits(most) || least.zip(most).is_some_and(|(least, most)| least > most) {
            self.report("wrong-option", "digits are from 0 to 100, and the least not above the most", expr.at);
        }
        if let Some(Type::Text(Text::One(name))) = options.read("sensitivity")
            && !matches!(&*name, "base" | "accent" | "variant")
        {
            let message = format!("`sensitivity` is base, accent or variant, not `{name}`");
            self.report("wrong-option", message, expr.at);
        }
    }
}
