//! What methods and functions return, and what they can be called on.

use super::infer::{Infer, items};
use super::narrow::path;
use super::{Text, Type, misfit};
use crate::expr::ast::{Arg, Expr, Function, Kind, MethodCall, Span, Target};
use crate::expr::functions::{Method, Static};

/// How often the type of an accumulator is retried before it counts as unknown.
const ROUNDS: usize = 4;

impl Infer<'_> {
    /// The types of arguments; functions and patterns among them are unknown.
    pub(super) fn args(&mut self, args: &[Arg]) -> Vec<Type> {
        let mut types = Vec::with_capacity(args.len());
        for arg in args {
            match arg {
                Arg::Value(expr) => types.push(self.expr(expr)),
                Arg::Spread(expr) => {
                    let of = self.expr(expr);
                    let item = self.items_of(&of, expr);
                    // The number of items is unknown; each position may hold one.
                    types.extend(std::iter::repeat_n(item, 4));
                }
                Arg::Function(_) | Arg::Pattern(_) => types.push(Type::Unknown),
            }
        }
        types
    }

    /// A method call on a value of which nothing is missing.
    pub(super) fn method(&mut self, call: &MethodCall, on: &Type, at: Span) -> Type {
        let args = self.args(&call.args);
        // What can never exist returns nothing: an unknown value would hide what the other branches return.
        if *on == Type::Never {
            return Type::Never;
        }
        let kinds = |test: fn(&Type) -> bool| on.keep(test);
        let wrong = on.keep(|one| !has_method(one, call.method));
        if wrong != Type::Never {
            let verb = if wrong == *on { "is" } else { "may be" };
            let shown = self.source(call.on.at);
            let name = call.method.name();
            self.report("unknown-method", format!("{shown} {verb} {}, which has no `{name}`", wrong.what()), at);
        }
        self.locale(call, &args);
        let mut results = Vec::new();
        let lists = kinds(|one| matches!(one, Type::List(_)));
        if lists != Type::Never && has_method(&Type::list(Type::Unknown), call.method) {
            results.push(self.on_list(call, &items(&lists), &lists, &args, at));
        }
        if kinds(|one| matches!(one, Type::Text(_))) != Type::Never && has_method(&Type::TEXT, call.method) {
            results.push(self.on_text(call, &args, at));
        }
        if kinds(|one| matches!(one, Type::Number(_) | Type::Bool(_) | Type::Object(_))) != Type::Never {
            results.push(match call.method {
                Method::HasOwnProperty => Type::BOOL,
                Method::ValueOf => on.clone(),
                _ => Type::TEXT,
            });
        }
        if on.alternatives().contains(&Type::Unknown) {
            self.look_into(call, at);
            results.push(match on {
                Type::Unknown => of_unknown(call.method),
                _ => Type::Unknown,
            });
        }
        if results.is_empty() { Type::Unknown } else { Type::union(results) }
    }

    /// Infers what functions among the arguments do with values of which nothing is known.
    fn look_into(&mut self, call: &MethodCall, at: Span) {
        for arg in &call.args {
            if let Arg::Function(function) = arg {
                self.apply(function, &[Type::Unknown, Type::NUMBER, Type::Unknown], at);
            }
        }
    }

    fn on_list(&mut self, call: &MethodCall, item: &Type, list: &Type, args: &[Type], at: Span) -> Type {
        use Method::*;
        let function = call.args.iter().find_map(|arg| match arg {
            Arg::Function(function) => Option::Some(function),
            _ => None,
        });
        let whole = Type::list(item.clone());
        let each = [item.clone(), Type::NUMBER, whole.clone()];
        let maybe = |of: Type| of.or(Type::Undefined);
        match (call.method, function) {
            (Map, Option::Some(function)) => Type::list(self.apply(function, &each, at)),
            (Filter, Option::Some(function)) => {
                self.apply(function, &each, at);
                Type::list(self.let_through(function, item))
            }
            (Find | FindLast, Option::Some(function)) => {
                self.apply(function, &each, at);
                maybe(self.let_through(function, item))
            }
            (FlatMap, Option::Some(function)) => {
                let of = self.apply(function, &each, at);
                Type::list(flat(&of))
            }
            (Every | Some | FindIndex | FindLastIndex, Option::Some(function)) => {
                self.apply(function, &each, at);
                if matches!(call.method, Every | Some) { Type::BOOL } else { Type::NUMBER }
            }
            (Reduce | ReduceRight, Option::Some(function)) => self.reduce(call, function, item, &whole, at),
            (ToSorted, function) => {
                if let Option::Some(function) = function {
                    self.apply(function, &[item.clone(), item.clone()], at);
                }
                whole
            }
            (At, _) => {
                let position = args.first().and_then(|at| if let Type::Number(n) = at { *n } else { None });
                list.map(|one| match one {
                    Type::List(items) => Type::at(items, position),
                    _ => Type::Never,
                })
            }
            (Concat, _) => Type::list(Type::union(std::iter::once(item.clone()).chain(args.iter().map(flat)))),
            (Entries, _) => Type::list(Type::list(item.clone().or(Type::NUMBER))),
            (Flat, _) if call.args.is_empty() => Type::list(flat(item)),
            (Flat, _) => Type::list(Type::Unknown),
            (Includes | HasOwnProperty, _) => Type::BOOL,
            (IndexOf | LastIndexOf, _) => Type::NUMBER,
            (Join | ToString, _) => Type::TEXT,
            (Keys, _) => Type::list(Type::NUMBER),
            (Slice | ToReversed | Values, _) => whole,
            (ToSpliced, _) => {
                Type::list(Type::union(std::iter::once(item.clone()).chain(args.iter().skip(2).cloned())))
            }
            (With, _) => Type::list(args.get(1).cloned().unwrap_or(Type::Unknown).or(item.clone())),
            (ValueOf, _) => list.clone(),
            _ => Type::Unknown,
        }
    }

    /// The items for which a function returns a truthy value.
    fn let_through(&mut self, function: &Function, item: &Type) -> Type {
        match function {
            Function::Arrow(arrow) => {
                let [param] = arrow.params.as_slice() else { return item.clone() };
                let Target::Local(local) = param.target else { return item.clone() };
                let facts = self.facts.clone();
                let of = self.quietly(|infer| {
                    infer.bind_params(arrow, std::slice::from_ref(item));
                    infer.assume(&arrow.body, true);
                    let expr = Expr { kind: Kind::Local(local), at: Span::default() };
                    path(&expr).map_or(Type::Unknown, |path| infer.path_type(&path))
                });
                self.facts = facts;
                of
            }
            Function::Static(Static::Boolean) => super::narrow::truthy(item),
            _ => item.clone(),
        }
    }

    fn reduce(&mut self, call: &MethodCall, function: &Function, item: &Type, whole: &Type, at: Span) -> Type {
        let first = match call.args.iter().find_map(|arg| if let Arg::Value(expr) = arg { Some(expr) } else { None }) {
            Some(first) => self.quietly(|infer| infer.expr(first)),
            // Without a first value an empty list is an error of its kind, as in ECMAScript.
            None => {
                if self.report("maybe-missing", "`reduce` fails on an empty list without a first value", at) {
                    self.help("add one: `reduce((a, b) => a + b, 0)`");
                }
                item.clone()
            }
        };
        let args = |of: Type| vec![of, item.clone(), Type::NUMBER, whole.clone()];
        self.accumulated(function, first, &args, at)
    }

    /// The type of an accumulator that a function is applied to again and again.
    fn accumulated(&mut self, function: &Function, first: Type, args: &dyn Fn(Type) -> Vec<Type>, at: Span) -> Type {
        let mut of = first.widened();
        for _ in 0..ROUNDS {
            let next = self.quietly(|infer| infer.apply(function, &args(of.clone()), at));
            let joined = of.clone().or(next.widened());
            if joined == of {
                // Reported only now that the type of the accumulator is known.
                self.apply(function, &args(of.clone()), at);
                return of;
            }
            of = joined;
        }
        self.apply(function, &args(Type::Unknown), at);
        Type::Unknown
    }

    fn on_text(&mut self, call: &MethodCall, args: &[Type], at: Span) -> Type {
        use Method::*;
        for (arg, of) in call.args.iter().zip(args) {
            match arg {
                Arg::Value(expr) => {
                    self.there(of, expr, "which would be read as text");
                }
                Arg::Function(function) => {
                    self.apply(function, &[Type::TEXT, Type::Unknown, Type::Unknown, Type::Unknown], at);
                }
                _ => {}
            }
        }
        let groups = Type::list(Type::TEXT.or(Type::Undefined));
        match call.method {
            At => Type::TEXT.or(Type::Undefined),
            CharCodeAt | IndexOf | LastIndexOf | LocaleCompare | Search => Type::NUMBER,
            CodePointAt => Type::NUMBER.or(Type::Undefined),
            EndsWith | StartsWith | Includes | IsWellFormed | HasOwnProperty => Type::BOOL,
            Match => groups.or(Type::Null),
            MatchAll => Type::list(groups),
            Split => Type::list(Type::TEXT),
            _ => Type::TEXT,
        }
    }

    pub(super) fn static_call(&mut self, function: Static, args: &[Arg], at: Span) -> Type {
        let types = self.args(args);
        self.static_types(function, &types, args, at)
    }

    /// A function on values of these types; `args` are the arguments as written, where there are any.
    pub(super) fn static_types(&mut self, function: Static, types: &[Type], args: &[Arg], at: Span) -> Type {
        use Static::*;
        let written = |index: usize| match args.get(index) {
            Some(Arg::Value(expr)) => Some(expr),
            _ => None,
        };
        let given = |index: usize| types.get(index).cloned().unwrap_or(Type::Undefined);
        let callback = args.iter().find_map(|arg| if let Arg::Function(f) = arg { Some(f) } else { None });
        let name = function.name();
        if name.starts_with("Math.") {
            for index in 0..args.len().min(types.len()) {
                if let Some(expr) = written(index) {
                    self.number(&given(index), expr);
                }
            }
            return Type::NUMBER;
        }
        if name.starts_with("time.") {
            const MOMENT: &[Text] = &[Text::Instant, Text::Date];
            const INSTANT: &[Text] = &[Text::Instant];
            const DATE: &[Text] = &[Text::Date];
            let texts: &[&[Text]] = match function {
                TimeBetween | TimeCompare => &[MOMENT, MOMENT],
                TimeAdd | TimeSubtract => &[MOMENT, &[Text::Span]],
                TimeFormat | TimeStartOf => &[MOMENT, &[Text::Any]],
                TimeIn => &[INSTANT, &[Text::Any]],
                TimeToUnix | TimeDate => &[INSTANT],
                TimeParse => &[&[Text::Any], &[Text::Any]],
                TimeWeek | TimeWeekday | TimeAddWorkingDays | TimeIsWorkingDay => &[DATE],
                TimeWorkingDays => &[DATE, DATE],
                _ => &[],
            };
            for (index, wanted) in texts.iter().enumerate() {
                if let Some(expr) = written(index) {
                    self.text_argument(&given(index), wanted, expr);
                }
            }
            let number = match function {
                TimeFromUnix => Some(0),
                TimeAddWorkingDays => Some(1),
                _ => None,
            };
            if let Some(index) = number
                && let Some(expr) = written(index)
            {
                self.number(&given(index), expr);
            }
            let date = |of: &Type| matches!(of, Type::Text(text) if Text::Date.covers(text));
            return match function {
                TimeBetween | TimeCompare | TimeToUnix | TimeWeek | TimeWeekday | TimeWorkingDays => Type::NUMBER,
                TimeIsWorkingDay => Type::BOOL,
                TimeFormat => Type::TEXT,
                TimeDate | TimeAddWorkingDays => Type::Text(Text::Date),
                TimeParse => match given(1) {
                    Type::Text(Text::One(pattern)) if crate::expr::pattern_has_time(&pattern) => Type::INSTANT,
                    Type::Text(Text::One(_)) => Type::Text(Text::Date),
                    _ => Type::TEXT,
                },
                TimeAdd | TimeSubtract | TimeStartOf if given(0).alternatives().iter().all(date) => {
                    Type::Text(Text::Date)
                }
                _ => Type::INSTANT,
            };
        }
        if name.starts_with("html.") {
            return self.html(function, types, args);
        }
        // A function of an object or a list accepts nothing else.
        let first = match (function, written(0)) {
            (ObjectEntries | ObjectKeys | ObjectValues | ArrayFrom | ObjectFromEntries | ObjectHasOwn, Some(expr)) => {
                self.there(&given(0), expr, "which has no members")
            }
            (ListChunk | ListGroup | ListScan | ListSortBy | ListSum | ListUnique | ListZip, Some(expr)) => {
                let of = self.there(&given(0), expr, "which is no list");
                self.only(&of, expr, |one| matches!(one, Type::List(_)), "is no list");
                of
            }
            (
                JsonParse | DigestSha256 | DigestHmacSha256 | DigestBase64 | DigestFromBase64 | DigestBase64url
                | DigestFromBase64url | DigestHash | DigestHmac | DigestUuid,
                Some(expr),
            ) => {
                self.text_argument(&given(0), &[Text::Any], expr);
                given(0)
            }
            _ => given(0),
        };
        let item = items(&first);
        if let (ListScan, Some(callback)) = (function, callback) {
            let args = |of: Type| vec![of, item.clone(), Type::NUMBER];
            return Type::list(self.accumulated(callback, given(2), &args, at));
        }
        if let Some(callback) = callback {
            let of = self.apply(callback, &[item.clone(), Type::NUMBER], at);
            if function == ArrayFrom {
                return Type::list(of);
            }
        }
        match function {
            Boolean | IsNaN | IsFinite | ArrayIsArray | NumberIsFinite | NumberIsInteger | NumberIsNaN
            | NumberIsSafeInteger | ObjectHasOwn | ObjectIs => Type::BOOL,
            Number | ParseInt | ParseFloat | NumberParseFloat | NumberParseInt | ListSum => Type::NUMBER,
            ArrayOf => Type::list(Type::union(types.iter().cloned())),
            ArrayFrom => Type::list(item),
            ObjectKeys => Type::list(Type::TEXT),
            ObjectValues => Type::list(values(&first)),
            ObjectEntries => Type::list(Type::list(Type::Unknown)),
            ObjectFromEntries => Type::record(Type::Unknown),
            ListChunk => Type::list(Type::list(item)),
            ListGroup => Type::record(Type::list(item)),
            ListRange => Type::list(Type::NUMBER),
            ListSortBy | ListUnique => Type::list(item),
            ListZip => Type::list(Type::list(Type::union(types.iter().map(items)).or(Type::Undefined))),
            JsonParse => Type::Unknown,
            Reveal | StructuredClone => given(0),
            JsonStringify
                if given(0).alternatives().iter().any(|one| matches!(one, Type::Undefined | Type::Unknown)) =>
            {
                Type::TEXT.or(Type::Undefined)
            }
            _ => Type::TEXT,
        }
    }

    pub(super) fn text_argument(&mut self, of: &Type, wanted: &[Text], expr: &Expr) {
        let of = self.there(of, expr, "and a text is needed");
        self.only(&of, expr, |one| matches!(one, Type::Text(_)), "is no text");
        let texts = of.keep(|one| matches!(one, Type::Text(_)));
        if let Some((why, help)) = misfit(&texts, wanted)
            && self.report("wrong-operand", format!("{}: {why}", self.source(expr.at)), expr.at)
            && let Some(help) = help
        {
            self.help(help);
        }
    }
}

/// What `flat` makes of an item.
fn flat(item: &Type) -> Type {
    item.map(|one| match one {
        Type::List(inner) => inner.of.clone(),
        other => other.clone(),
    })
}

fn values(of: &Type) -> Type {
    of.map(|one| match one {
        Type::Object(shape) => {
            let members = shape.members.iter().map(|member| member.value.clone());
            Type::union(members.chain(shape.rest.clone()))
        }
        Type::List(item) => item.of.clone(),
        Type::Text(_) => Type::TEXT,
        _ => Type::Unknown,
    })
}

/// What a method returns on a value of which nothing is known, where it is the same on all that have it.
fn of_unknown(method: Method) -> Type {
    use Method::*;
    match method {
        CharAt | Join | Normalize | PadEnd | PadStart | Repeat | Replace | ReplaceAll | Substring | ToExponential
        | ToFixed | ToLocaleString | ToLowerCase | ToPrecision | ToString | ToUpperCase | ToWellFormed | Trim
        | TrimEnd | TrimStart => Type::TEXT,
        EndsWith | StartsWith | Every | Some | Includes | HasOwnProperty | IsWellFormed => Type::BOOL,
        CharCodeAt | FindIndex | FindLastIndex | IndexOf | LastIndexOf | LocaleCompare | Search => Type::NUMBER,
        Map | Filter | Flat | FlatMap | ToReversed | ToSorted | ToSpliced | With | Values | Entries => {
            Type::list(Type::Unknown)
        }
        Split => Type::list(Type::TEXT),
        _ => Type::Unknown,
    }
}

/// Whether values of a type have a method; the same as what the evaluator does.
/// The methods that every value of a type has that is not missing; none where nothing is known.
pub fn methods(of: &Type) -> Vec<Method> {
    let there = of.without_nullish();
    let known = !there.alternatives().is_empty() && !there.alternatives().contains(&Type::Unknown);
    let all = Method::names().filter_map(Method::by_name).filter(|_| known);
    all.filter(|method| there.alternatives().iter().all(|one| has_method(one, *method))).collect()
}

pub(super) fn has_method(of: &Type, method: Method) -> bool {
    use Method::*;
    match of {
        Type::List(_) => matches!(
            method,
            At | Concat
                | Entries
                | Every
                | Filter
                | Find
                | FindIndex
                | FindLast
                | FindLastIndex
                | Flat
                | FlatMap
                | HasOwnProperty
                | Includes
                | IndexOf
                | Join
                | Keys
                | LastIndexOf
                | Map
                | Reduce
                | ReduceRight
                | Slice
                | Some
                | ToReversed
                | ToSorted
                | ToSpliced
                | ToString
                | Values
                | ValueOf
                | With
        ),
        Type::Text(_) => matches!(
            method,
            At | CharAt
                | CharCodeAt
                | CodePointAt
                | Concat
                | EndsWith
                | HasOwnProperty
                | Includes
                | IndexOf
                | IsWellFormed
                | LastIndexOf
                | LocaleCompare
                | Match
                | MatchAll
                | Normalize
                | PadEnd
                | PadStart
                | Repeat
                | Replace
                | ReplaceAll
                | Search
                | Slice
                | Split
                | StartsWith
                | Substring
                | ToLowerCase
                | ToString
                | ToUpperCase
                | ToWellFormed
                | Trim
                | TrimEnd
                | TrimStart
                | ValueOf
        ),
        Type::Number(_) => {
            matches!(
                method,
                HasOwnProperty | ToExponential | ToFixed | ToLocaleString | ToPrecision | ToString | ValueOf
            )
        }
        Type::Bool(_) => matches!(method, ToString | ValueOf),
        Type::Object(_) => matches!(method, HasOwnProperty | ToString | ValueOf),
        _ => true,
    }
}
