//! The console's files, built into the program.

use actix_web::{HttpResponse, web};
use rust_embed::RustEmbed;

#[derive(RustEmbed)]
#[folder = "../../console/dist"]
#[allow_missing = true]
struct Files;

/// What a browser may do with the console: only what it brings itself.
const POLICY: &str = "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; \
                      frame-ancestors 'none'; base-uri 'none'; form-action 'none'";

/// Where built files are, and the kinds of those beside the page itself. Names of models have dots as well.
const BUILT: &str = "assets/";
const KINDS: [&str; 7] = ["js", "css", "svg", "png", "ico", "map", "txt"];

/// Whether a path can only mean a file, and no page.
fn is_file(path: &str) -> bool {
    let ending = path.rsplit_once('.').map_or("", |(_, ending)| ending);
    path.starts_with(BUILT) || (!path.contains('/') && KINDS.contains(&ending))
}

/// Serves a file of the console; every other path is one of its pages.
pub(crate) async fn file(path: web::Path<String>) -> HttpResponse {
    let path = path.into_inner();
    let wanted = if path.is_empty() { "index.html" } else { path.as_str() };
    let found = Files::get(wanted).map(|file| (wanted, file));
    let page = || Files::get("index.html").map(|file| ("index.html", file));
    let found = if is_file(wanted) { found } else { found.or_else(page) };
    let Some((name, file)) = found else {
        let missing = Files::get("index.html").is_none();
        let text = if missing {
            "This program was built without the console. Build it: cargo xtask build\n"
        } else {
            "This page does not exist.\n"
        };
        return HttpResponse::NotFound().content_type("text/plain; charset=utf-8").body(text);
    };
    let kind = mime_guess::from_path(name).first_or_octet_stream();
    // Built files have a digest in their names; the page itself is always requested again.
    let caching =
        if name.starts_with(BUILT) { "public, max-age=31536000, immutable" } else { "no-cache" };
    HttpResponse::Ok()
        .content_type(kind.as_ref())
        .insert_header(("cache-control", caching))
        .insert_header(("content-security-policy", POLICY))
        .insert_header(("x-content-type-options", "nosniff"))
        .body(file.data.into_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_page_of_a_model_whose_name_has_a_dot_is_a_page() {
        assert!(!is_file("depot/larkfen-desk.v1.2/q8_0") && !is_file("depot/larkfen/q4.js"));
        assert!(!is_file("") && !is_file("calls"));
        assert!(is_file("assets/none-1234.js") && is_file("favicon.ico") && is_file("deft.svg"));
    }
}
