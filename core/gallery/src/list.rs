//! The examples, those for newcomers first.

use super::Example;

const fn example(name: &'static str, about: &'static str, needs: &'static str) -> Example {
    Example { name, about, needs }
}

/// The worked examples.
pub const EXAMPLES: &[Example] = &[
    example("berth-quote", "calls one after another, a branch, a retry, an answer", "chain services http get price"),
    example(
        "iban-check",
        "a checksum in a few lines of script, with the reason where it fails",
        "validate account number bank",
    ),
    example(
        "statement-totals",
        "a file with columns of fixed width, read line by line, with running totals",
        "upload text parse script sum bank",
    ),
    example(
        "next-working-day",
        "working days with a list of holidays, dates written by a pattern",
        "calendar due date business",
    ),
    example(
        "collect-reports",
        "a list read page by page until it ends, each entry once",
        "paging pagination dedupe duplicates remove through",
    ),
    example("berth-class", "a choice by ranges and lists of values, from a form", "match decision table nested form"),
    example(
        "harbour-tides",
        "a GET that answers although one service is unavailable, and how much partners may ask",
        "fallback rate limit key quota parallel together",
    ),
    example(
        "berth-quote-v2",
        "callers with a token of an issuer, and functions of a library",
        "jwt oauth auth scope version",
    ),
    example(
        "customs-recall",
        "signed messages of another system, and what they change",
        "receive webhook signature hmac",
    ),
    example("vessel-dues", "a workflow for others to invoke, with functions and a match", "share reuse price"),
    example("stay-bill", "invokes another workflow and writes to a database in one transaction", "sql insert invoice"),
    example(
        "arrival-brief",
        "different calls by kind, several services at once",
        "parallel together aggregate summarise text",
    ),
    example(
        "gather-reports",
        "what is new since the last time, each item sorted and stored",
        "keep state incremental sync classify",
    ),
    example("harbour-report", "a GET that reports from a database", "sql query statistics"),
    example(
        "arrival-notice",
        "answers at once and queues the rest, which is retried until it works",
        "background async job",
    ),
    example(
        "customs-clearance",
        "a job that clients poll, and that waits for a callback",
        "long running approval progress",
    ),
    example(
        "notice-board",
        "a web page read by CSS selectors, with absolute links, in the order of a language",
        "html scrape scraping crawl extract website sort locale",
    ),
    example(
        "page-card",
        "a page at an address that clients name: title, text and links, public addresses only",
        "html url preview crawl ssrf host website",
    ),
    example(
        "quay-release",
        "a job that waits for a signature, found by its number and not by an address",
        "approval human wait correlation key callback",
    ),
    example(
        "quay-signature",
        "messages of one webhook, each for the job that waits for it",
        "correlate resume wake signal reference webhook",
    ),
    example(
        "berth-hold",
        "a hold that expires by a job of its own, unless it is confirmed",
        "schedule later cancel expire timeout",
    ),
    example("berth-confirm", "confirms a hold and cancels the job that would end it", "cancel job tag"),
    example("hold-watch", "a job that waits, looks, and waits again", "pause poll remind"),
    example("dues-round", "one job for each row, spread over time", "batch enqueue each spacing mass"),
    example("dues-reminder", "a mail from a template, when its turn comes in a lane", "email html render"),
    example("night-watch", "a recurring job with its time zone", "cron timetable schedule every"),
    example("bill-watch", "a row that changed in a database begins a job", "cdc trigger table change"),
    example("crew-list", "a file that is taken in, checked and stored", "upload pdf csv attachment place"),
    example("crew-list-copy", "a stored file for download", "fetch link download"),
    example("cargo-manifests", "a ZIP of CSV files read row by row into a database", "unzip import csv bulk"),
    example("cargo-list", "rows of a database as CSV or JSON, however many", "export csv stream download"),
    example(
        "bill-list",
        "a list that clients take as JSON or CSV, as they ask",
        "export csv spreadsheet formats negotiate accountants",
    ),
    example("month-report", "a report as a PDF from a template", "print html render document"),
    example(
        "month-mail",
        "a report by mail each month, and what happens when that fails",
        "email attachment schedule on_failure",
    ),
    example(
        "bank-statement",
        "a text with columns of fixed width, checked with a function of a library",
        "parse script iban",
    ),
    example("payment-notice", "messages that come more than once, processed once", "idempotent webhook duplicate"),
];
