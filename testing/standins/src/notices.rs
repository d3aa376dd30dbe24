//! The notice board of the harbour: a page for readers, as nobody would write an interface for.

use actix_web::HttpResponse;
use actix_web::web::{self, Data, ServiceConfig};

use super::State;

/// Number, since when, what it is about, and what it says. All invented.
const NOTICES: [(u32, &str, &str, &str); 4] = [
    (41, "2027-03-01", "Crane 2", "Out of service for an inspection <b>until 6 March</b>."),
    (42, "2027-03-02", "East quay", "Mooring alongside the ferry is not allowed."),
    (43, "2027-03-03", "Fairway", "Buoy 7 lies 40&nbsp;m north of its place &amp; shows no light."),
    (44, "2027-03-04", "Harbour office", "Closed on 5 March."),
];

pub fn routes(config: &mut ServiceConfig) {
    config.route("/notices/board", web::get().to(board)).route("/notices/{number}", web::get().to(notice));
}

fn page(title: &str, main: &str) -> HttpResponse {
    let text = format!(
        "<!doctype html>\n<html lang=en><head><meta charset=utf-8><title>{title} - Port of Lindvik</title>\n\
         <meta name=description content=\"What those who call at Lindvik should know\"><meta name=updated content=2027-03-04T05:40:00Z>\n\
         <link rel=canonical href=/notices/board><style>tr.old {{ color: grey }}</style></head>\n\
         <body><nav><a href=/>Port of Lindvik</a> <a href=/notices/board>Notices</a></nav>\n<main><h1>{title}</h1>\n{main}</main>\n\
         <footer>Harbour office, <a href=mailto:office@lindvik.example>office@lindvik.example</a></footer></body></html>\n"
    );
    HttpResponse::Ok().content_type("text/html; charset=utf-8").body(text)
}

/// All notices, in a table whose cells nobody closes.
async fn board(state: Data<State>) -> HttpResponse {
    if let (Some(failure), _) = state.behave("notices").await {
        return failure;
    }
    let row = |(number, since, about, text): (u32, &str, &str, &str)| {
        format!(
            "<tr class=notice id=n{number}><td class=number>{number}<td class=since>{since}<td class=about><a href={number}#top>{about}</a><td class=text>{text}\n"
        )
    };
    page("Notices", &format!("<table>\n<tr><th>No.<th>Since<th>About<th>Notice\n{}</table>", NOTICES.map(row).concat()))
}

/// One notice.
async fn notice(state: Data<State>, number: web::Path<u32>) -> HttpResponse {
    if let (Some(failure), _) = state.behave("notices").await {
        return failure;
    }
    match NOTICES.iter().find(|(known, ..)| *known == *number) {
        Some((number, since, about, text)) => {
            page(&format!("Notice {number}"), &format!("<p>{about}, since <time>{since}</time>.<p>{text}"))
        }
        None => super::problem(404, "There is no such notice"),
    }
}
