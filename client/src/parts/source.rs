//! Addresses of parts: `GIT-URL[#path]@TAG`.

/// Where a part comes from.
#[derive(Clone, Debug, PartialEq)]
pub struct Source {
    /// The address of the repository, as Git reads it.
    pub url: String,
    /// The folder in it; all of it where it names none.
    pub path: Option<String>,
    /// The tag.
    pub tag: String,
}

impl Source {
    /// Reads an address with a tag; returns why it is none.
    pub fn read(text: &str) -> Result<Source, String> {
        let (rest, tag) = text.rsplit_once('@').ok_or("name the tag behind an @: `file:///srv/parts.git@v1.0.0`")?;
        // `git@host:parts.git` has an @ that is not that of a tag.
        if tag.contains([':', '#']) || rest.is_empty() {
            return Err(format!("`{text}` names no tag: write `{text}@v1.0.0`"));
        }
        let (url, path) = match rest.split_once('#') {
            Some((url, path)) => (url, Some(path.trim_matches('/').to_owned())),
            None => (rest, None),
        };
        let source = Source { url: url.to_owned(), path, tag: tag.to_owned() };
        source.sound().map(|()| source)
    }

    /// Whether it leads to a repository, a folder and a tag, and to nothing that Git would run; returns why not.
    pub fn sound(&self) -> Result<(), String> {
        let Source { url, path, tag } = self;
        let sound = |tag: &str| {
            !tag.is_empty()
                && !tag.starts_with(['-', '.', '/'])
                && !tag.contains("..")
                && tag.chars().all(|c| c.is_ascii_alphanumeric() || "._-/+".contains(c))
        };
        if !sound(tag) {
            return Err(format!("`{tag}` cannot be the name of a tag"));
        }
        if let Some(path) = path.as_ref().filter(|path| !sound_path(path)) {
            return Err(format!("`{path}` is no path in a repository"));
        }
        known(url)
    }

    /// The name of the part: that of the repository.
    pub fn name(&self) -> String {
        let last = self.url.trim_end_matches('/').rsplit(['/', ':']).next().unwrap_or_default();
        let last = last.trim_end_matches(".git").trim_end_matches(".bundle").to_lowercase();
        let name: String = last.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '-' }).collect();
        name.trim_matches(|c: char| !c.is_ascii_lowercase()).to_owned()
    }
}

/// Whether parts are taken from such an address: encrypted, or on this machine.
fn known(url: &str) -> Result<(), String> {
    let encrypted = url.starts_with("https://") || url.starts_with("ssh://");
    let local = url.starts_with("file:///") || url.starts_with('/') || url.starts_with("./") || url.starts_with("../");
    // `git@host:parts.git`, Git's short form of ssh.
    let short = url.split_once('@').is_some_and(|(user, rest)| {
        let host = rest.split_once(':').map_or("", |(host, _)| host);
        !user.is_empty() && !host.is_empty() && !url.contains("::") && !user.contains([':', '/']) && !host.contains('/')
    });
    if (encrypted || local || short) && !url.chars().any(|c| c.is_control() || c == ' ') && !url.starts_with('-') {
        return Ok(());
    }
    Err(format!("`{url}` is no address that parts are taken from: https://, ssh://, git@host:path or file:///"))
}

/// Whether a path stays below the folder that it is in, and hides nothing.
pub fn sound_path(path: &str) -> bool {
    !path.is_empty()
        && path.len() <= 400
        && path.split('/').all(|part| !part.is_empty() && !part.starts_with('.') && !part.contains(['\\', ':', '\0']))
}

#[cfg(test)]
mod tests {
    use super::Source;

    #[test]
    fn addresses_have_a_tag_and_maybe_a_path() {
        for (text, wanted) in [
            ("https://git.example/parts.git@v1", Some("https://git.example/parts.git | - | v1 | parts")),
            (
                "https://git.example/Harbour_Parts.git#a/b/@v1.2.0",
                Some("https://git.example/Harbour_Parts.git | a/b | v1.2.0 | harbour-parts"),
            ),
            ("git@host:office/parts.git@2027/03", Some("git@host:office/parts.git | - | 2027/03 | parts")),
            ("file:///srv/parts.bundle@v1", Some("file:///srv/parts.bundle | - | v1 | parts")),
            ("ssh://user@host/parts@v1", Some("ssh://user@host/parts | - | v1 | parts")),
            ("git@host:parts.git", None),
            ("https://git.example/parts.git", None),
            ("http://git.example/parts.git@v1", None),
            ("ext::sh -c touch% x@v1", None),
            ("--upload-pack=touch x@v1", None),
            ("-u@v1", None),
            ("file:///srv/parts@--force", None),
            ("file:///srv/parts@a..b", None),
            ("file:///srv/parts#../x@v1", None),
            ("file:///srv/parts#.git/hooks@v1", None),
            ("https://git.example/a b@v1", None),
        ] {
            let got = Source::read(text).ok().map(|source| {
                let name = source.name();
                format!("{} | {} | {} | {name}", source.url, source.path.as_deref().unwrap_or("-"), source.tag)
            });
            assert_eq!(got.as_deref(), wanted, "{text}");
        }
    }
}
