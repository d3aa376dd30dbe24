//! What statements return and which tables and columns they name, worked out from a description of the database.
//!
//! The database has the last word: what it would say for certain is known here or left open (an empty type name), and nothing
//! is reported about tables that come from elsewhere.
//!
//! ```text
//! let found = described("SELECT vessel, COUNT(*) AS stays FROM bill GROUP BY vessel", &tables);
//! // columns: vessel VARCHAR, stays BIGINT; faults: none
//! ```

use std::collections::BTreeMap;
use std::ops::ControlFlow;

use kanzlei_lang::document::database::Column;
use kanzlei_lang::suggest;
use sqlparser::ast::{
    AssignmentTarget, BinaryOperator, Delete, Expr, FromTable, Function, FunctionArguments, GroupByExpr, Ident, Insert,
    JoinConstraint, JoinOperator, ObjectName, OnInsert, OrderByExpr, OrderByKind, Query, Select, SelectItem,
    SelectItemQualifiedWildcardKind, SetExpr, Statement, TableFactor, TableObject, TableWithJoins, UnaryOperator,
    Value, Visit, Visitor,
};
use sqlparser::dialect::MySqlDialect;
use sqlparser::parser::Parser;

/// The columns of tables by name.
pub type Tables = BTreeMap<String, Vec<Column>>;

/// What a statement does with described tables.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Described {
    /// The columns of the rows that it returns; nothing where they are not known.
    pub columns: Option<Vec<Column>>,
    /// Tables and columns that do not exist.
    pub faults: Vec<Unknown>,
}

/// A table or column that does not exist.
#[derive(Clone, Debug, PartialEq)]
pub struct Unknown {
    /// The name as the statement has it.
    pub name: String,
    /// The table that lacks the column; nothing for a table.
    pub column_of: Option<String>,
    /// A name that is near.
    pub near: Option<String>,
}

/// What a statement, which was judged before, returns and names; `?` stands for each of its parameters.
pub fn described(text: &str, tables: &Tables) -> Described {
    super::with_stack(text, || {
        let statement = Parser::parse_sql(&MySqlDialect {}, text).ok().and_then(|mut all| all.pop());
        let mut walk = Walk { text, tables, named: Vec::new(), faults: Vec::new() };
        let columns = statement.and_then(|statement| walk.statement(&statement));
        let mut faults = Vec::new();
        for fault in walk.faults {
            if !faults.contains(&fault) {
                faults.push(fault);
            }
        }
        Described { columns, faults }
    })
}

/// A table in scope; its columns are open where they are not known.
#[derive(Clone)]
struct Source {
    alias: String,
    columns: Option<Vec<Column>>,
}

/// The tables that expressions see, with those of the queries around.
#[derive(Clone, Copy)]
struct Scope<'a> {
    sources: &'a [Source],
    /// Names that the query itself gives to columns.
    aliases: &'a [String],
    outer: Option<&'a Scope<'a>>,
}

/// What is known of the value of an expression.
struct Known {
    type_name: String,
    nullable: bool,
}

impl Known {
    fn new(type_name: &str, nullable: bool) -> Self {
        Known { type_name: type_name.to_owned(), nullable }
    }
}

struct Walk<'t> {
    text: &'t str,
    tables: &'t Tables,
    /// Queries with names (`WITH`), innermost last.
    named: Vec<Source>,
    faults: Vec<Unknown>,
}

impl Walk<'_> {
    fn statement(&mut self, statement: &Statement) -> Option<Vec<Column>> {
        match statement {
            Statement::Query(query) => self.query(query, None),
            Statement::Insert(insert) => self.insert(insert),
            Statement::Update(update) => {
                let sources = self.sources(std::slice::from_ref(&update.table), None);
                let scope = Scope { sources: &sources, aliases: &[], outer: None };
                for assignment in &update.assignments {
                    self.target(&assignment.target, &scope);
                    self.names(&assignment.value, &scope);
                }
                self.names_of(update.selection.iter(), &scope);
                self.ordered(&update.order_by, &scope);
                Some(Vec::new())
            }
            Statement::Delete(delete) => self.delete(delete),
            _ => None,
        }
    }

    fn insert(&mut self, insert: &Insert) -> Option<Vec<Column>> {
        let TableObject::TableName(name) = &insert.table else { return None };
        let source = self.table(name, None);
        let sources = [source];
        let scope = Scope { sources: &sources, aliases: &[], outer: None };
        for column in &insert.columns {
            self.object_column(column, &scope);
        }
        if let Some(query) = &insert.source {
            match &*query.body {
                // Rows of values: other columns of the row may be named.
                SetExpr::Values(values) => {
                    values.rows.iter().flat_map(|row| &row.content).for_each(|value| self.names(value, &scope));
                }
                _ => _ = self.query(query, None),
            }
        }
        let on = match &insert.on {
            Some(OnInsert::DuplicateKeyUpdate(assignments)) => assignments.as_slice(),
            _ => &[],
        };
        for assignment in insert.assignments.iter().chain(on) {
            self.target(&assignment.target, &scope);
            // A value may name columns of the query that it comes from.
            if insert.source.as_ref().is_none_or(|query| matches!(&*query.body, SetExpr::Values(_))) {
                self.names(&assignment.value, &scope);
            }
        }
        match &insert.returning {
            Some(items) => self.projected(items, &scope),
            None => Some(Vec::new()),
        }
    }

    fn delete(&mut self, delete: &Delete) -> Option<Vec<Column>> {
        let (FromTable::WithFromKeyword(from) | FromTable::WithoutKeyword(from)) = &delete.from;
        let using = delete.using.as_deref().unwrap_or_default();
        let sources = self.sources(if using.is_empty() { from } else { using }, None);
        let scope = Scope { sources: &sources, aliases: &[], outer: None };
        self.names_of(delete.selection.iter(), &scope);
        self.ordered(&delete.order_by, &scope);
        match &delete.returning {
            Some(items) => self.projected(items, &scope),
            None => Some(Vec::new()),
        }
    }

    /// The columns of a query; nothing where they are not known.
    fn query(&mut self, query: &Query, outer: Option<&Scope>) -> Option<Vec<Column>> {
        let named = self.named.len();
        for cte in query.with.iter().flat_map(|with| &with.cte_tables) {
            let recursive = query.with.as_ref().is_some_and(|with| with.recursive);
            let alias = cte.alias.name.value.clone();
            if recursive {
                self.named.push(Source { alias: alias.clone(), columns: None });
            }
            let mut columns = self.query(&cte.query, outer);
            if !cte.alias.columns.is_empty() || recursive {
                columns = None;
            }
            self.named.push(Source { alias, columns });
        }
        let columns = self.body(&query.body, query, outer);
        self.named.truncate(named);
        columns
    }

    fn body(&mut self, body: &SetExpr, query: &Query, outer: Option<&Scope>) -> Option<Vec<Column>> {
        match body {
            SetExpr::Select(select) => self.select(select, query, outer),
            SetExpr::Query(inner) => self.query(inner, outer),
            SetExpr::SetOperation { left, right, .. } => {
                let (left, right) = (self.body(left, query, outer), self.body(right, query, outer));
                let (left, right) = (left?, right?);
                if left.len() != right.len() {
                    return None;
                }
                let both = |(one, other): (Column, Column)| {
                    let same = one.type_name == other.type_name;
                    let type_name = if same { one.type_name } else { String::new() };
                    Column { name: one.name, type_name, nullable: one.nullable || other.nullable }
                };
                Some(left.into_iter().zip(right).map(both).collect())
            }
            _ => None,
        }
    }

    fn select(&mut self, select: &Select, query: &Query, outer: Option<&Scope>) -> Option<Vec<Column>> {
        let sources = self.sources(&select.from, outer);
        let aliases: Vec<String> = select
            .projection
            .iter()
            .filter_map(|item| match item {
                SelectItem::ExprWithAlias { alias, .. } => Some(alias.value.clone()),
                _ => None,
            })
            .collect();
        let scope = Scope { sources: &sources, aliases: &[], outer };
        let mut columns = self.projected(&select.projection, &scope);
        self.names_of(select.selection.iter(), &scope);
        // These see the names that the query gives to its columns.
        let behind = Scope { aliases: &aliases, ..scope };
        self.names_of(select.having.iter(), &behind);
        if let GroupByExpr::Expressions(by, modifiers) = &select.group_by {
            self.names_of(by.iter(), &behind);
            if !modifiers.is_empty() {
                columns.iter_mut().flatten().for_each(|column| column.nullable = true);
            }
        }
        if let Some(OrderByKind::Expressions(by)) = query.order_by.as_ref().map(|order| &order.kind)
            && matches!(&*query.body, SetExpr::Select(_))
        {
            self.ordered(by, &behind);
        }
        columns
    }

    fn ordered(&mut self, by: &[OrderByExpr], scope: &Scope) {
        self.names_of(by.iter().map(|order| &order.expr), scope);
    }

    /// The tables of a `FROM`.
    fn sources(&mut self, from: &[TableWithJoins], outer: Option<&Scope>) -> Vec<Source> {
        let mut all: Vec<Source> = Vec::new();
        let mut conditions: Vec<&Expr> = Vec::new();
        for table in from {
            let begins = all.len();
            self.factor(&table.relation, outer, &mut all);
            for join in &table.joins {
                let here = all.len();
                self.factor(&join.relation, outer, &mut all);
                let constraint = match &join.join_operator {
                    JoinOperator::Left(on) | JoinOperator::LeftOuter(on) => {
                        all[here..].iter_mut().for_each(Source::optional);
                        Some(on)
                    }
                    JoinOperator::Right(on) | JoinOperator::RightOuter(on) => {
                        all[begins..here].iter_mut().for_each(Source::optional);
                        Some(on)
                    }
                    JoinOperator::Join(on)
                    | JoinOperator::Inner(on)
                    | JoinOperator::CrossJoin(on)
                    | JoinOperator::StraightJoin(on) => Some(on),
                    _ => None,
                };
                match constraint {
                    Some(JoinConstraint::On(condition)) => conditions.push(condition),
                    Some(JoinConstraint::None) => {}
                    // Columns that are joined by name appear once: what `*` means is left open.
                    _ => all[begins..].iter_mut().for_each(|source| source.columns = None),
                }
            }
        }
        let scope = Scope { sources: &all, aliases: &[], outer };
        conditions.into_iter().for_each(|condition| self.names(condition, &scope));
        all
    }

    fn factor(&mut self, factor: &TableFactor, outer: Option<&Scope>, all: &mut Vec<Source>) {
        match factor {
            TableFactor::Table { name, alias, .. } => {
                let source = self.table(name, alias.as_ref().map(|alias| &alias.name));
                all.push(source);
            }
            TableFactor::Derived { subquery, alias, .. } => {
                let mut columns = self.query(subquery, outer);
                if alias.as_ref().is_some_and(|alias| !alias.columns.is_empty()) {
                    columns = None;
                }
                let alias = alias.as_ref().map(|alias| alias.name.value.clone()).unwrap_or_default();
                all.push(Source { alias, columns });
            }
            TableFactor::NestedJoin { table_with_joins, alias: None } => {
                all.extend(self.sources(std::slice::from_ref(table_with_joins), outer));
            }
            _ => all.push(Source { alias: String::new(), columns: None }),
        }
    }

    /// A table by its name, which must be described.
    fn table(&mut self, name: &ObjectName, alias: Option<&Ident>) -> Source {
        let open = |alias: String| Source { alias, columns: None };
        let parts: Vec<&Ident> = name.0.iter().filter_map(|part| part.as_ident()).collect();
        let [own] = parts.as_slice() else {
            // A table of another schema.
            return open(alias.or(parts.last().copied()).map(|name| name.value.clone()).unwrap_or_default());
        };
        let known_as = alias.map_or_else(|| own.value.clone(), |alias| alias.value.clone());
        if let Some(named) = self.named.iter().rfind(|named| named.alias.eq_ignore_ascii_case(&own.value)) {
            return Source { alias: known_as, columns: named.columns.clone() };
        }
        match self.tables.get(&own.value) {
            Some(columns) => Source { alias: known_as, columns: Some(columns.clone()) },
            None => {
                let near = suggest::nearest(&own.value, self.tables.keys().map(String::as_str)).map(str::to_owned);
                self.faults.push(Unknown { name: own.value.clone(), column_of: None, near });
                open(known_as)
            }
        }
    }

    /// The columns of what a query lists; nothing where one is not known.
    fn projected(&mut self, items: &[SelectItem], scope: &Scope) -> Option<Vec<Column>> {
        let mut columns = Some(Vec::new());
        for item in items {
            let found = match item {
                SelectItem::ExprWithAlias { expr, alias } => {
                    let known = self.known(expr, scope);
                    Some(vec![column(&alias.value, known)])
                }
                SelectItem::UnnamedExpr(expr) => {
                    let known = self.known(expr, scope);
                    self.name_of(expr).map(|name| vec![column(&name, known)])
                }
                SelectItem::Wildcard(_) => {
                    let all: Option<Vec<Vec<Column>>> =
                        scope.sources.iter().map(|source| source.columns.clone()).collect();
                    all.map(|all| all.into_iter().flatten().collect())
                }
                SelectItem::QualifiedWildcard(SelectItemQualifiedWildcardKind::ObjectName(name), _) => {
                    let alias = name.0.last().and_then(|part| part.as_ident()).map(|ident| ident.value.as_str());
                    let of = scope.sources.iter().find(|source| Some(source.alias.as_str()) == alias);
                    of.and_then(|source| source.columns.clone())
                }
                _ => None,
            };
            columns = columns.zip(found).map(|(mut columns, found)| {
                columns.extend(found);
                columns
            });
        }
        columns
    }

    /// What the database calls a column without a name of its own: its text, where that is known as it was written.
    fn name_of(&self, expr: &Expr) -> Option<String> {
        match expr {
            Expr::Identifier(name) => Some(name.value.clone()),
            Expr::CompoundIdentifier(parts) => parts.last().map(|name| name.value.clone()),
            other => {
                let written = other.to_string();
                self.text.contains(&written).then_some(written)
            }
        }
    }

    /// What is known of a value; names in it are looked up on the way.
    fn known(&mut self, expr: &Expr, scope: &Scope) -> Known {
        self.names(expr, scope);
        self.value(expr, scope)
    }

    fn value(&mut self, expr: &Expr, scope: &Scope) -> Known {
        let open = || Known::new("", true);
        match expr {
            Expr::Identifier(name) => scope.column(None, &name.value).unwrap_or_else(open),
            Expr::CompoundIdentifier(parts) => match parts.as_slice() {
                [table, name] => scope.column(Some(&table.value), &name.value).unwrap_or_else(open),
                _ => open(),
            },
            Expr::Nested(inner) => self.value(inner, scope),
            Expr::Value(value) => match &value.value {
                Value::Number(text, _) if text.contains(['.', 'e', 'E']) => Known::new("DOUBLE", false),
                Value::Number(..) => Known::new("BIGINT", false),
                Value::SingleQuotedString(_) | Value::DoubleQuotedString(_) => Known::new("VARCHAR", false),
                Value::Boolean(_) => Known::new("INT", false),
                _ => open(),
            },
            Expr::IsNull(_) | Expr::IsNotNull(_) | Expr::Exists { .. } => Known::new("INT", false),
            Expr::UnaryOp { op: UnaryOperator::Not, expr } => Known::new("INT", self.value(expr, scope).nullable),
            Expr::UnaryOp { expr, .. } => Known::new("DOUBLE", self.value(expr, scope).nullable),
            Expr::BinaryOp { left, op, right } => {
                let nullable = self.value(left, scope).nullable | self.value(right, scope).nullable;
                match op {
                    BinaryOperator::Plus | BinaryOperator::Minus | BinaryOperator::Multiply => {
                        Known::new("DOUBLE", nullable)
                    }
                    BinaryOperator::Divide | BinaryOperator::Modulo => Known::new("DOUBLE", true),
                    BinaryOperator::Eq
                    | BinaryOperator::NotEq
                    | BinaryOperator::Lt
                    | BinaryOperator::LtEq
                    | BinaryOperator::Gt
                    | BinaryOperator::GtEq
                    | BinaryOperator::And
                    | BinaryOperator::Or => Known::new("INT", nullable),
                    _ => open(),
                }
            }
            Expr::Case { conditions, else_result, .. } => {
                let mut all: Vec<Known> = conditions.iter().map(|when| self.value(&when.result, scope)).collect();
                let other = else_result.as_ref().map(|other| self.value(other, scope));
                let without = other.is_none();
                all.extend(other);
                let nullable = without || all.iter().any(|one| one.nullable);
                Known { nullable, ..alike(all) }
            }
            Expr::Subquery(query) => {
                // Its faults were found by `names`.
                let faults = std::mem::take(&mut self.faults);
                let columns = self.query(query, Some(scope));
                self.faults = faults;
                let first = columns.and_then(|columns| columns.into_iter().next());
                first.map_or_else(open, |column| Known { type_name: column.type_name, nullable: true })
            }
            Expr::Function(function) => self.function(function, scope),
            _ => open(),
        }
    }

    fn function(&mut self, function: &Function, scope: &Scope) -> Known {
        let name = function.name.to_string().to_lowercase();
        let mut values = Vec::new();
        if let FunctionArguments::List(list) = &function.args {
            for argument in &list.args {
                if let sqlparser::ast::FunctionArg::Unnamed(sqlparser::ast::FunctionArgExpr::Expr(expr)) = argument {
                    values.push(self.value(expr, scope));
                }
            }
        }
        match name.as_str() {
            "count" => Known::new("BIGINT", false),
            "sum" | "avg" | "round" | "abs" | "ceil" | "ceiling" | "floor" | "length" | "char_length" | "year"
            | "month" | "day" | "hour" | "minute" | "datediff" | "timestampdiff" | "sqrt" | "pow" | "power" | "mod" => {
                Known::new("DOUBLE", true)
            }
            "row_number" | "rank" | "dense_rank" => Known::new("BIGINT", false),
            // A boolean is a number to these.
            "min" | "max" => Known { nullable: true, ..alike(values) },
            "coalesce" | "ifnull" => {
                let nullable = values.iter().all(|value| value.nullable);
                Known { nullable, ..alike(values) }
            }
            "if" if values.len() == 3 => {
                let nullable = values[1].nullable || values[2].nullable;
                values.remove(0);
                Known { nullable, ..alike(values) }
            }
            "concat" | "upper" | "lower" | "replace" | "left" | "right" | "concat_ws" | "group_concat"
            | "date_format" => Known::new("VARCHAR", true),
            "now" | "current_timestamp" | "utc_timestamp" => Known::new("DATETIME", false),
            "curdate" | "current_date" | "utc_date" => Known::new("DATE", false),
            _ => Known::new("", true),
        }
    }

    fn names_of<'e>(&mut self, all: impl Iterator<Item = &'e Expr>, scope: &Scope) {
        all.for_each(|expr| self.names(expr, scope));
    }

    /// Reports names in an expression that are no columns in scope; queries inside have their own scope.
    fn names(&mut self, expr: &Expr, scope: &Scope) {
        let mut names = Names { walk: self, scope, depth: 0 };
        let _ = expr.visit(&mut names);
    }

    fn target(&mut self, target: &AssignmentTarget, scope: &Scope) {
        match target {
            AssignmentTarget::ColumnName(name) => self.object_column(name, scope),
            AssignmentTarget::Tuple(names) => names.iter().for_each(|name| self.object_column(name, scope)),
        }
    }

    fn object_column(&mut self, name: &ObjectName, scope: &Scope) {
        let parts: Vec<&Ident> = name.0.iter().filter_map(|part| part.as_ident()).collect();
        match parts.as_slice() {
            [name] => self.column(None, name, scope),
            [table, name] => self.column(Some(table), name, scope),
            _ => {}
        }
    }

    fn column(&mut self, table: Option<&Ident>, name: &Ident, scope: &Scope) {
        // What a row is filled with where nothing is said parses as a name.
        let word = table.is_none() && name.quote_style.is_none() && name.value.eq_ignore_ascii_case("DEFAULT");
        if word || scope.knows(table.map(|table| table.value.as_str()), &name.value) {
            return;
        }
        let of = table.map(|table| table.value.as_str());
        let sources =
            || scope.sources.iter().filter(|source| of.is_none_or(|of| source.alias.eq_ignore_ascii_case(of)));
        let columns = sources().flat_map(|source| source.columns.iter().flatten()).map(|column| column.name.as_str());
        let near = suggest::nearest(&name.value, columns).map(str::to_owned);
        let tables: Vec<&str> = sources().map(|source| source.alias.as_str()).collect();
        let column_of = Some(tables.join(", "));
        self.faults.push(Unknown { name: name.value.clone(), column_of, near });
    }
}

impl Source {
    /// Rows of it may be missing.
    fn optional(&mut self) {
        self.columns.iter_mut().flatten().for_each(|column| column.nullable = true);
    }

    fn column(&self, name: &str) -> Option<&Column> {
        self.columns.iter().flatten().find(|column| column.name.eq_ignore_ascii_case(name))
    }
}

impl Scope<'_> {
    fn sources(&self, table: Option<&str>) -> impl Iterator<Item = &Source> {
        self.sources.iter().filter(move |source| table.is_none_or(|table| source.alias.eq_ignore_ascii_case(table)))
    }

    fn column(&self, table: Option<&str>, name: &str) -> Option<Known> {
        if let Some(column) = self.sources(table).find_map(|source| source.column(name)) {
            return Some(Known { type_name: column.type_name.clone(), nullable: column.nullable });
        }
        // A table whose columns are open may have it.
        if self.sources(table).any(|source| source.columns.is_none()) {
            return None;
        }
        self.outer?.column(table, name)
    }

    fn knows(&self, table: Option<&str>, name: &str) -> bool {
        let alias = || table.is_none() && self.aliases.iter().any(|alias| alias.eq_ignore_ascii_case(name));
        let here = |source: &Source| source.columns.is_none() || source.column(name).is_some();
        // A qualified name of no table here is left to the database.
        let elsewhere = table.is_some() && self.sources(table).next().is_none() && self.outer.is_none();
        alias()
            || elsewhere
            || self.sources(table).any(here)
            || self.outer.is_some_and(|outer| outer.knows(table, name))
    }
}

/// Looks up the names of one expression.
struct Names<'w, 't, 's> {
    walk: &'w mut Walk<'t>,
    scope: &'s Scope<'s>,
    /// How many queries stand around what is visited.
    depth: u32,
}

impl Visitor for Names<'_, '_, '_> {
    type Break = ();

    fn pre_visit_query(&mut self, query: &Query) -> ControlFlow<()> {
        if self.depth == 0 {
            self.walk.query(query, Some(self.scope));
        }
        self.depth += 1;
        ControlFlow::Continue(())
    }

    fn post_visit_query(&mut self, _: &Query) -> ControlFlow<()> {
        self.depth -= 1;
        ControlFlow::Continue(())
    }

    fn pre_visit_expr(&mut self, expr: &Expr) -> ControlFlow<()> {
        match expr {
            _ if self.depth > 0 => {}
            Expr::Identifier(name) => self.walk.column(None, name, self.scope),
            Expr::CompoundIdentifier(parts) => {
                if let [table, name] = parts.as_slice() {
                    self.walk.column(Some(table), name, self.scope);
                }
            }
            _ => {}
        }
        ControlFlow::Continue(())
    }
}

fn column(name: &str, known: Known) -> Column {
    Column { name: name.to_owned(), type_name: known.type_name, nullable: known.nullable }
}

/// The type of a value that is one of several; open where they differ. What the database calls a boolean is a number in most of these.
fn alike(all: Vec<Known>) -> Known {
    let mut types = all.iter().map(|one| one.type_name.as_str());
    let first = types.next().unwrap_or_default().to_owned();
    let same = types.all(|other| other == first) && first != "BOOLEAN";
    let nullable = all.iter().any(|one| one.nullable);
    Known { type_name: if same { first } else { String::new() }, nullable }
}

#[cfg(test)]
mod tests;
