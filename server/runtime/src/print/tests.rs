use super::*;

fn printer(python: &str, memory: u64) -> Printer {
    Printer::new(Settings { python: python.into(), memory, at_once: 2 })
}

fn scratch(name: &str) -> PathBuf {
    let folder = kanzlei_harness::scratch::folder(name);
    std::fs::create_dir_all(&folder).expect("a folder");
    folder
}

async fn printed(printer: &Printer, html: &str, files: &[(String, PathBuf)]) -> Result<Vec<u8>, EffectError> {
    let folder = scratch("print");
    let to = folder.join("page.pdf");
    let page = Page { html, files, pages: 3, bytes: 1 << 20, within: Duration::from_secs(20) };
    printer.print(&page, &to).await.map(|()| std::fs::read(&to).expect("a PDF"))
}

/// A PNG that claims to have so many pixels on each side; almost all of it is missing.
fn png(side: u32) -> Vec<u8> {
    let mut bytes = b"\x89PNG\r\n\x1a\n\0\0\0\rIHDR".to_vec();
    bytes.extend(side.to_be_bytes().iter().chain(&side.to_be_bytes()).chain(&[8, 2, 0, 0, 0]));
    let mut checksum = !0u32;
    for byte in &bytes[12..] {
        checksum ^= u32::from(*byte);
        (0..8).for_each(|_| checksum = if checksum & 1 == 1 { (checksum >> 1) ^ 0xedb8_8320 } else { checksum >> 1 });
    }
    bytes.extend((!checksum).to_be_bytes());
    bytes
}

#[tokio::test]
async fn pages_are_printed_within_their_bounds() {
    let printer = printer("/usr/bin/python3", 1 << 30);
    let folder = scratch("print-files");
    let svg = "<svg xmlns='http://www.w3.org/2000/svg' width='9' height='9'><rect width='9' height='9'/></svg>";
    std::fs::write(folder.join("plan"), svg).expect("a file");
    std::fs::write(folder.join("huge"), png(60_000)).expect("a file");
    let files = [("plan.svg".to_owned(), folder.join("plan")), ("huge.png".to_owned(), folder.join("huge"))];
    let pdf = printed(
        &printer,
        "<p>Kvikk</p><img src='plan.svg'><img src='data:image/gif;base64,R0lGODlhAQABAAAAACw='>",
        &files,
    )
    .await;
    assert!(pdf.expect("a PDF").starts_with(b"%PDF-"));
    let broken = "<p style='page-break-before: always'>x</p>".repeat(5);
    let styles = "<style>@import url('http://127.0.0.1:9/a.css');</style>";
    let svg = "<svg><image href='file:///etc/passwd' width='9' height='9'/></svg>";
    for (page, kind, says) in [
        ("<img src='http://127.0.0.1:9/a.png'>", FailureKind::Print, "http://127.0.0.1:9/a.png"),
        ("<img src='file:///etc/hostname'>", FailureKind::Print, "file:///etc/hostname"),
        ("<link rel=stylesheet href='../../etc/hostname'>", FailureKind::Print, "etc/hostname"),
        ("<link rel=attachment href='file:///etc/passwd'>", FailureKind::Print, "file:///etc/passwd"),
        (styles, FailureKind::Print, "http://127.0.0.1:9/a.css"),
        (svg, FailureKind::Print, "file:///etc/passwd"),
        ("<img src='other.png'>", FailureKind::Print, "other.png"),
        (&broken, FailureKind::TooLarge, "at most 3 are printed"),
    ] {
        let fault = printed(&printer, page, &files).await.expect_err(page);
        assert!(fault.kind == kind && fault.detail.contains(says), "{}: {fault:?}", &page[..page.len().min(90)]);
    }
    // An image of 60,000 x 60,000 pixels is left out, and costs nothing.
    assert!(printed(&printer, "<p>x</p><img src='huge.png'>", &files).await.is_ok());
}

#[tokio::test]
async fn memory_is_bounded_and_a_missing_engine_is_reported() {
    let small = printer("/usr/bin/python3", 200 << 20);
    let fault = printed(&small, &"<p>many words here</p>".repeat(60_000), &[]).await.expect_err("a bound");
    assert!(matches!(fault.kind, FailureKind::TooLarge | FailureKind::Print | FailureKind::Timeout), "{fault:?}");
    let none = printer("/nowhere/python3", 1 << 30);
    let fault = printed(&none, "<p>", &[]).await.expect_err("no engine");
    assert!(fault.kind == FailureKind::Print && fault.detail.contains("apt-get install weasyprint"), "{fault:?}");
}
