use super::*;

fn page(text: &str) -> Page {
    Page::read(text, &mut |_, _| Ok::<(), Unpaid>(())).expect("a page")
}

const BOARD: &str = r##"<!doctype html><html lang="nb"><head><title> Notices
 of Lindvik </title><meta name="Description" content="What is new"><meta property="og:type" content="website">
<link rel="stylesheet canonical" href="/notices"><style>p {}</style></head><body>
<nav><a href="/">Home</a></nav><main><h1>Notices</h1>
<table><tr class=notice><td class=no>7</td><td>Crane 2 is <b>closed</b></td><td><a href="notices/7#top">more</a></td></tr>
<tr class=notice><td class=no>8<td>Fog<br>all day<td><a href="mailto:office@lindvik.example">mail</a></tr></table>
<script>document.write("x")</script></main><footer>Lindvik</footer>"##;

#[test]
fn elements_are_found_by_selectors() {
    let page = page(BOARD);
    let found = |selector: &str| -> Vec<String> {
        let found = page.select(selector, &mut |_, _| Ok::<(), Unpaid>(())).expect(selector);
        found.iter().map(|one| format!("{} {}", one.tag(), one.text())).collect()
    };
    for (selector, wanted) in [
        ("tr.notice td:nth-child(2)", "td Crane 2 is closed|td Fog all day"),
        (".no", "td 7|td 8"),
        ("h1, .no", "h1 Notices|td 7|td 8"),
        ("a[href^=notices]", "a more"),
        ("tr:has(b) > .no", "td 7"),
        ("td:not(.no) > b", "b closed"),
        ("blink", ""),
    ] {
        assert_eq!(found(selector).join("|"), wanted, "{selector}");
    }
    for bad in ["", "td >", "a[", "p::first-line x", &"p ".repeat(300)] {
        assert!(matches!(selector::<Unpaid>(bad), Err(Fault::Selector { .. })), "{bad}");
    }
    let first = page.select("a", &mut |_, _| Ok::<(), Unpaid>(())).expect("a selector")[1];
    assert_eq!((first.html(), first.attributes().len()), ("<a href=\"notices/7#top\">more</a>".to_owned(), 1));
}

#[test]
fn rows_have_a_cell_for_each_field() {
    let page = page(BOARD);
    let rows = page
        .rows("tr.notice", &[".no", "td:nth-child(2)", "a@href", "@class", "b", ""], &mut |_, _| Ok::<(), Unpaid>(()));
    let shown: Vec<String> = rows.expect("rows").iter().map(|row| format!("{row:?}").replace("Some", "")).collect();
    assert_eq!(
        shown,
        [
            r##"[("7"), ("Crane 2 is closed"), ("notices/7#top"), ("notice"), ("closed"), ("7 Crane 2 is closed more")]"##,
            r##"[("8"), ("Fog all day"), ("mailto:office@lindvik.example"), ("notice"), None, ("8 Fog all day mail")]"##,
        ]
    );
}

#[test]
fn a_page_says_what_it_is_and_where_it_leads() {
    let page = page(BOARD);
    let meta = page.meta();
    assert_eq!(
        (meta.title.as_deref(), meta.description.as_deref(), meta.language.as_deref(), meta.canonical.as_deref()),
        (Some("Notices of Lindvik"), Some("What is new"), Some("nb"), Some("/notices"))
    );
    assert_eq!(meta.properties.keys().collect::<Vec<_>>(), ["description", "og:type"]);
    assert_eq!(page.main(), "Notices\n7 Crane 2 is closed more\n8 Fog\nall day mail");
    assert_eq!(page.text(), "Home\nNotices\n7 Crane 2 is closed more\n8 Fog\nall day mail\nLindvik");
    for (text, of, wanted) in [
        (BOARD, "https://lindvik.example/a/b", "https://lindvik.example/ https://lindvik.example/a/notices/7"),
        ("<base href='//other.example/x/'><a href=y>", "https://lindvik.example", "https://other.example/x/y"),
        ("<a href='javascript:alert(1)'><a href='http://[bad'><a>", "https://lindvik.example", ""),
        (BOARD, "no address", ""),
    ] {
        let links: Vec<String> = super::tests::page(text).links(of).into_iter().map(|link| link.url).collect();
        assert_eq!(links.join(" "), wanted, "{of}");
    }
    let parts = address("../x?a=1#b", Some("HTTPS://Lindvik.example:8443/p/q")).expect("an address");
    assert_eq!(
        (parts.href.as_str(), parts.host.as_deref(), parts.port),
        ("https://lindvik.example:8443/x?a=1#b", Some("lindvik.example"), Some(8443))
    );
    assert_eq!(address("nothing", None), None);
}

/// What it costs to read a page and to search it, or why that is ended.
fn cost(text: &str, selector: &str) -> Result<u64, String> {
    let (mut work, mut bytes) = (0u64, 0u64);
    let mut pay = |units: u64, more: u64| {
        work = work.saturating_add(units);
        bytes += more;
        if work > 5_000_000 || bytes > 64 << 20 { Err(Unpaid) } else { Ok(()) }
    };
    let page = Page::read(text, &mut pay).map_err(|fault| fault.to_string())?;
    page.select(selector, &mut pay).map_err(|fault| fault.to_string())?;
    Ok(work)
}

#[test]
fn what_strangers_write_ends_in_its_bounds() {
    let plain = "<p>A notice of the harbour, as there are many.</p>".repeat(1000);
    let (once, twice) = (cost(&plain, "p").expect("paid"), cost(&plain.repeat(2), "p").expect("paid"));
    assert!(twice < once * 5 / 2, "{once} {twice}: it grows with the page");
    let fonts: String = (0..400).map(|size| format!("<font size={size}>")).collect();
    for (text, selector, says) in [
        // Each paragraph repeats all formatting that is open.
        (format!("<p>{fonts}{}", "</p><p>x".repeat(20_000)), "p", "more than 200000 nodes"),
        ("<div>".repeat(100_000), "div", "nested deeper than 512"),
        ("<p>x".repeat(90_000), "p ~ p ~ p:nth-last-child(3)", "the work was ended"),
        ("<p>x".repeat(150_000), "p", "more than 200000 nodes"),
    ] {
        let ended = cost(&text, selector).expect_err(says);
        assert!(ended.contains(says), "{says}: {ended}");
    }
    // Anything is a page.
    let tables = "<b><i><u><table>".repeat(3000);
    for odd in [
        &*tables,
        "",
        "\0",
        "<",
        "<!--",
        "<![CDATA[",
        "<svg><title>no</title>",
        "</p></html><table><td>&#x110000;&notit;",
    ] {
        cost(odd, "*").expect(odd);
    }
}
