//! What each request to the control API needs: a role by its method and path.
//!
//! Reading needs a viewer. What changes something and has no rule needs an operator, so that a new route is closed until it has one.

use kanzlei_model::role::Role;

/// Requests that need another role than the rule: method, beginning of the path, role. The first that fits counts.
const RULES: &[(&str, &str, Role)] = &[
    // What only asks, although it sends documents along.
    ("POST", "/check", Role::Viewer),
    ("POST", "/compare", Role::Viewer),
    // What an assistant asks for is asked with its own role.
    ("POST", "/mcp", Role::Viewer),
    ("POST", "/language/", Role::Viewer),
    ("DELETE", "/session", Role::Viewer),
    ("DELETE", "/sessions", Role::Viewer),
    // Composing, trying and deploying.
    ("POST", "/deploys", Role::Author),
    ("PUT", "/drafts/", Role::Author),
    ("DELETE", "/drafts/", Role::Author),
    ("PUT", "/kept/", Role::Author),
    ("POST", "/retraces", Role::Author),
    ("POST", "/rehearsals", Role::Author),
    ("POST", "/previews", Role::Author),
    ("DELETE", "/previews/", Role::Author),
    ("POST", "/trials", Role::Author),
    ("POST", "/workflows/", Role::Author),
    ("PUT", "/workflows/", Role::Author),
    ("DELETE", "/workflows/", Role::Author),
    ("DELETE", "/services/", Role::Author),
    ("DELETE", "/libraries/", Role::Author),
    ("DELETE", "/alerts/", Role::Author),
    ("POST", "/scratch", Role::Author),
    ("DELETE", "/scratch/", Role::Author),
    ("POST", "/requests", Role::Author),
    ("POST", "/runs/", Role::Author),
    ("POST", "/deliveries/input", Role::Author),
    ("POST", "/deliveries/process", Role::Operator),
    ("POST", "/deliveries/sign", Role::Operator),
    ("POST", "/deliveries/", Role::Author),
    // Their addresses let anyone run a draft.
    ("GET", "/previews", Role::Author),
    // Who may use the service, and what they did.
    ("GET", "/audit", Role::Operator),
    ("GET", "/operators", Role::Operator),
    // Who stands behind a pseudonym.
    ("GET", "/pseudonyms/", Role::Operator),
];

/// The role that a request needs; `path` is that below `/api/v1`.
pub fn needed(method: &str, path: &str) -> Role {
    let method = if method == "HEAD" { "GET" } else { method };
    let rule = RULES.iter().find(|(known, begins, _)| *known == method && path.starts_with(begins));
    match rule {
        Some((_, _, role)) => *role,
        None if method == "GET" => Role::Viewer,
        None => Role::Operator,
    }
}

/// Whether a request changes something, and so is for the audit trail.
pub fn changes(method: &str, path: &str) -> bool {
    !matches!(method, "GET" | "HEAD" | "OPTIONS")
        && (needed(method, path) > Role::Viewer || path.starts_with("/session"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn requests_need_the_role_of_what_they_do() {
        for (request, role) in [
            ("GET /runs", Role::Viewer),
            ("HEAD /audit", Role::Operator),
            ("GET /audit?who=x", Role::Operator),
            ("POST /language/hover", Role::Viewer),
            ("POST /deploys", Role::Author),
            ("POST /trials/1/decisions", Role::Author),
            ("PUT /secrets/x", Role::Operator),
            ("POST /keys", Role::Operator),
            ("GET /previews", Role::Author),
            ("POST /jobs/actions", Role::Operator),
            ("POST /lanes/x/hold", Role::Operator),
            ("PUT /alerts/x/silence", Role::Operator),
            ("POST /deliveries/sign", Role::Operator),
            ("POST /deliveries/1/case", Role::Author),
            ("POST /databases/x/prepare", Role::Operator),
            ("PATCH /anything-new", Role::Operator),
        ] {
            let (method, path) = request.split_once(' ').expect("method and path");
            assert_eq!(needed(method, path), role, "{request}");
        }
        assert!(!changes("POST", "/check") && !changes("GET", "/audit") && changes("DELETE", "/session"));
    }
}
