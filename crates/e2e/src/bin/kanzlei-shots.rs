//! Takes the pictures of the console for `docs/screenshots/` from a demo that runs, or one picture of
//! one page: `kanzlei-shots CONTROL_URL TOKEN FOLDER [PAGE…]`.

use std::path::Path;

use kanzlei_e2e::browser::Browser;

#[tokio::main]
async fn main() {
    let args: Vec<String> = std::env::args().skip(1).collect();
    let [control, token, folder, pages @ ..] = args.as_slice() else {
        eprintln!("usage: kanzlei-shots CONTROL_URL TOKEN FOLDER [NAME=/PAGE[!dark][@CSS-TO-CLICK] …]");
        std::process::exit(2);
    };
    let folder = Path::new(folder);
    std::fs::create_dir_all(folder).expect("folder");
    let browser = Browser::start(&std::env::temp_dir().join(format!("kanzlei-shots-{}", std::process::id()))).await;
    browser.goto(control).await;
    browser.find("#token").await;
    if pages.iter().any(|page| page.starts_with("sign-in")) {
        browser.picture(&folder.join("sign-in.png")).await;
    }
    browser.sign_in(control, token).await;
    for page in pages.iter().filter(|page| !page.starts_with("sign-in")) {
        let (name, rest) = page.split_once('=').expect("NAME=/PAGE");
        let (rest, click) = rest.split_once('@').map_or((rest, None), |(a, b)| (a, Some(b)));
        let (path, dark) = rest.split_once('!').map_or((rest, false), |(a, b)| (a, b == "dark"));
        let choice = if dark { "dark" } else { "light" };
        browser
            .client
            .execute(&format!("localStorage.setItem('kanzlei-theme', '{choice}')"), vec![])
            .await
            .expect("theme");
        browser.goto(&format!("{control}{path}")).await;
        browser.find("main h1").await;
        tokio::time::sleep(std::time::Duration::from_millis(700)).await;
        if let Some(css) = click {
            browser.find(css).await.click().await.expect("click");
        }
        browser.picture(&folder.join(format!("{name}.png"))).await;
        println!("{name}");
    }
    browser.close().await;
}
