//! The reference in `docs/reference`, made from the product itself: command line, settings, API, metrics.

use std::collections::BTreeMap;
use std::fmt::Write as _;

use anyhow::Context;
use quote::ToTokens;
use serde_json::Value;

use crate::steps;

/// Folder of the pages, from the project's folder.
const FOLDER: &str = "docs/reference";
/// Head of every page.
const MADE: &str = "Made by `cargo xtask reference`; do not edit.";

/// Writes the pages; with `check`, fails if one is out of date.
pub(crate) fn pages(check: bool) -> anyhow::Result<()> {
    let pages = [
        ("command-line.md", command_line()?),
        ("settings.md", settings()?),
        ("api.md", api()?),
        ("metrics.md", metrics()?),
    ];
    for (name, text) in pages {
        let path = steps::root().join(FOLDER).join(name);
        if check {
            let found = std::fs::read_to_string(&path).unwrap_or_default();
            anyhow::ensure!(
                found == text,
                "{FOLDER}/{name} is out of date: run `cargo xtask reference`"
            );
        } else {
            std::fs::create_dir_all(steps::root().join(FOLDER))?;
            std::fs::write(path, text)?;
        }
    }
    Ok(())
}

/// Writes the man pages into `target/man`.
pub(crate) fn man() -> anyhow::Result<()> {
    let folder = steps::root().join("target/man");
    let folder = folder.to_string_lossy();
    deft(&["documents", "--man", &folder])?;
    println!("man pages are in {folder}; read one: man {folder}/deft.1");
    Ok(())
}

/// The output of the program, without the user's settings.
fn deft(arguments: &[&str]) -> anyhow::Result<String> {
    let empty = tempfile::NamedTempFile::new()?;
    let own = std::env::vars().map(|(name, _)| name).filter(|name| name.starts_with("DEFT_"));
    // As the tests build it: alone it would be built once more, with other features of what it depends on.
    steps::run("cargo", &["test", "--workspace", "--tests", "--no-run", "--quiet"], ".")?;
    let mut deft = std::process::Command::new(steps::root().join("target/debug/deft"));
    deft.arg("--config").arg(empty.path());
    deft.args(arguments).current_dir(steps::root()).stderr(std::process::Stdio::inherit());
    let output = own.fold(&mut deft, |deft, name| deft.env_remove(name)).output()?;
    anyhow::ensure!(output.status.success(), "`deft {}` failed", arguments.join(" "));
    Ok(String::from_utf8(output.stdout)?)
}

fn command_line() -> anyhow::Result<String> {
    let page = deft(&["documents", "--help-page"])?;
    Ok(page.replacen("\n\n", &format!("\n\n{MADE}\n\n"), 1))
}

/// Fields of the settings' types with their documentation, by type.
type Types = BTreeMap<String, Vec<(String, String, String)>>;

fn settings() -> anyhow::Result<String> {
    let folder = steps::root().join("crates/service/src");
    let mut types = Types::new();
    let mut variables = BTreeMap::new();
    for name in ["config/mod.rs", "config/loading.rs"] {
        let file = syn::parse_file(&std::fs::read_to_string(folder.join(name))?)?;
        for item in &file.items {
            match item {
                syn::Item::Struct(item) => {
                    types.insert(item.ident.to_string(), fields(item));
                }
                syn::Item::Const(item) if item.ident == "VARIABLES" => {
                    variables = pairs(&item.expr.to_token_stream().to_string());
                }
                _ => {}
            }
        }
    }
    // Defaults of an ordinary user.
    let defaults = deft(&["config", "--json", "--data-dir", "/var/lib/deft-harbor"])?;
    let defaults: Vec<Value> = serde_json::from_str(&defaults)?;
    let default = |name: &str| {
        let found = defaults.iter().find(|setting| setting["name"] == name);
        found.and_then(|setting| setting["value"].as_str()).unwrap_or_default().to_owned()
    };
    let mut page = format!(
        "# Settings\n\n{MADE}\n\nA value comes from the command line, else from the environment, else from the settings file, else it \
         is the default. `deft config` shows every setting with its origin. The settings file is TOML: `[loading]` and below it \
         `evict = \"any\"`.\n\n| setting | environment | default | meaning |\n|---|---|---|---|\n"
    );
    let mut rows = Vec::new();
    flatten("Config", "", &types, &mut rows)?;
    for (name, text) in rows {
        let variable =
            variables.iter().find(|(_, setting)| **setting == name).map(|(variable, _)| variable);
        let variable = variable.map_or(String::new(), |variable| format!("`{variable}`"));
        let default = match &*name {
            "data_dir" => {
                "`~/.local/share/deft-harbor`; for root `/var/lib/deft-harbor`".to_owned()
            }
            name => default(name),
        };
        let default = if default.is_empty() || default.contains('`') {
            default
        } else {
            format!("`{default}`")
        };
        writeln!(page, "| `{name}` | {variable} | {default} | {text} |")?;
    }
    Ok(page)
}

fn fields(item: &syn::ItemStruct) -> Vec<(String, String, String)> {
    let field = |field: &syn::Field| {
        let name = field.ident.as_ref()?.to_string();
        Some((
            name,
            field.ty.to_token_stream().to_string().replace(' ', ""),
            documentation(&field.attrs),
        ))
    };
    item.fields.iter().filter_map(field).collect()
}

fn documentation(attributes: &[syn::Attribute]) -> String {
    let line = |attribute: &syn::Attribute| match &attribute.meta {
        syn::Meta::NameValue(meta) if meta.path.is_ident("doc") => match &meta.value {
            syn::Expr::Lit(syn::ExprLit { lit: syn::Lit::Str(text), .. }) => {
                Some(text.value().trim().to_owned())
            }
            _ => None,
        },
        _ => None,
    };
    attributes.iter().filter_map(line).collect::<Vec<_>>().join(" ").replace('|', "\\|")
}

/// Settings below a type, in their order.
fn flatten(
    of: &str,
    path: &str,
    types: &Types,
    rows: &mut Vec<(String, String)>,
) -> anyhow::Result<()> {
    for (name, kind, text) in types.get(of).with_context(|| format!("no type `{of}`"))? {
        let path = if path.is_empty() { name.clone() } else { format!("{path}.{name}") };
        let inner = kind.trim_start_matches("Vec<").trim_end_matches('>');
        if types.contains_key(inner) {
            let path = if inner == kind { path } else { format!("{path}[]") };
            flatten(inner, &path, types, rows)?;
        } else {
            rows.push((path, text.clone()));
        }
    }
    Ok(())
}

/// Pairs of string literals in the source text of a list.
fn pairs(source: &str) -> BTreeMap<String, String> {
    let literals: Vec<&str> = source.split('"').skip(1).step_by(2).collect();
    literals.chunks_exact(2).map(|pair| (pair[0].to_owned(), pair[1].to_owned())).collect()
}

fn api() -> anyhow::Result<String> {
    let document = std::fs::read_to_string(steps::root().join("console/openapi.json"))?;
    let document: Value = serde_json::from_str(&document)?;
    let mut page = format!(
        "# API\n\n{MADE}\n\nEvery field is described in the OpenAPI document of the service: `GET /manage/v1/openapi.json`. Errors of \
         `/manage/v1` are problems (`application/problem+json`) with `detail`, `way_out` and `ways`; errors of `/v1` have the \
         form of the protocol.\n"
    );
    let mut groups: BTreeMap<&str, Vec<String>> = BTreeMap::new();
    for (path, operations) in document["paths"].as_object().context("no paths")? {
        for (method, operation) in operations.as_object().context("no operations")? {
            let text = operation["summary"]
                .as_str()
                .or(operation["description"].as_str())
                .unwrap_or_default();
            let text = text.split_whitespace().collect::<Vec<_>>().join(" ");
            let group = operation["tags"][0].as_str().unwrap_or("other");
            groups
                .entry(group)
                .or_default()
                .push(format!("| `{} {path}` | {text} |", method.to_uppercase()));
        }
    }
    for (group, rows) in groups {
        write!(page, "\n## {group}\n\n| request | meaning |\n|---|---|\n{}\n", rows.join("\n"))?;
    }
    Ok(page)
}

fn metrics() -> anyhow::Result<String> {
    let source =
        std::fs::read_to_string(steps::root().join("crates/service/src/observing/metrics.rs"))?;
    let mut page = format!(
        "# Metrics\n\n{MADE}\n\n`GET /metrics` has them in the OpenMetrics text format. Names begin with `deft_`; counters end in `_total`.\n\n\
         | metric | meaning |\n|---|---|\n"
    );
    let source = source.split("#[cfg(test)]").next().unwrap_or_default();
    let file = syn::parse_file(source)?;
    let mut literals = Vec::new();
    collect(file.to_token_stream(), &mut literals);
    let is_name =
        |text: &str| !text.is_empty() && text.chars().all(|c| c.is_ascii_lowercase() || c == '_');
    // A name and its help are neighbours, in either order.
    for pair in literals.windows(2) {
        let (name, help) = match (is_name(&pair[0]), is_name(&pair[1])) {
            (true, false) => (&pair[0], &pair[1]),
            _ => continue,
        };
        if help.contains(' ') && help.starts_with(char::is_uppercase) {
            writeln!(page, "| `deft_{name}` | {help} |")?;
        }
    }
    Ok(page)
}

fn collect(tokens: proc_macro2::TokenStream, literals: &mut Vec<String>) {
    for token in tokens {
        match token {
            proc_macro2::TokenTree::Group(group) => collect(group.stream(), literals),
            proc_macro2::TokenTree::Literal(literal) => {
                if let Ok(text) =
                    syn::parse2::<syn::LitStr>(proc_macro2::TokenTree::Literal(literal).into())
                {
                    literals.push(text.value());
                }
            }
            _ => {}
        }
    }
}
