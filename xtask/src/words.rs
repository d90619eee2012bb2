//! Every text that a person can see, on one page, so that all of it can be read in one go.
//!
//! Texts are collected from the source: string literals of the product's crates that are sentences or parts of them,
//! the catalogue of the console, the help of the command line, and the OpenAPI document. Texts of tests,
//! of invariants (`expect`, `assert!`) and SQL are no texts for people.

use std::fmt::Write as _;
use std::path::{Path, PathBuf};

use anyhow::Context;
use proc_macro2::{Delimiter, TokenStream, TokenTree};
use quote::ToTokens;

use crate::steps;

/// The page, from the project's folder.
pub(crate) const PAGE: &str = "docs/reference/texts.md";

/// Crates whose texts reach a person.
const CRATES: [&str; 9] =
    ["cli", "client", "depot", "engine", "formats", "kernels", "planning", "protocol", "service"];

/// Calls and macros whose texts only a developer sees.
const FOR_DEVELOPERS: [&str; 18] = [
    "expect",
    "expect_err",
    "assert",
    "assert_eq",
    "assert_ne",
    "debug_assert",
    "debug_assert_eq",
    "unreachable",
    "panic",
    "cfg",
    "query",
    "query_as",
    "query_scalar",
    "query_with",
    "raw_sql",
    "concat_bytes",
    "include_str",
    "asm",
];

/// Writes the page; with `check`, fails if it is out of date.
pub(crate) fn page(check: bool) -> anyhow::Result<()> {
    let text = texts()?;
    if !check {
        return {
            let path = steps::root().join(PAGE);
            std::fs::create_dir_all(path.parent().context("no folder")?)?;
            Ok(std::fs::write(path, text)?)
        };
    }
    let found = std::fs::read_to_string(steps::root().join(PAGE)).unwrap_or_default();
    anyhow::ensure!(
        found == text,
        "{PAGE} is out of date: run `cargo xtask words`, and read what changed"
    );
    Ok(())
}

fn texts() -> anyhow::Result<String> {
    let mut page = String::from(
        "# Every text that a person can see\n\nMade by `cargo xtask words`; read what changed with every change.\n",
    );
    for name in CRATES {
        for file in sources(steps::root().join("crates").join(name).join("src"))? {
            let found = of_file(&file)?;
            if !found.is_empty() {
                let shown = file.strip_prefix(steps::root()).unwrap_or(&file).display();
                write!(page, "\n## {shown}\n\n")?;
                found.iter().try_for_each(|text| writeln!(page, "- {text}"))?;
            }
        }
    }
    page += "\n## Help of the command line\n\n```text\n";
    page += &help()?;
    page += "```\n\n## Console\n\n";
    let catalogue = std::fs::read_to_string(steps::root().join("console/src/texts/en.json"))?;
    add_texts("", &serde_json::from_str(&catalogue)?, &mut page);
    page += "\n## API\n\n";
    let document = std::fs::read_to_string(steps::root().join("console/openapi.json"))?;
    add_descriptions(&serde_json::from_str(&document)?, &mut page);
    Ok(page)
}

/// Help texts, from the snapshot that a test of the command line compares.
fn help() -> anyhow::Result<String> {
    let snapshot = "crates/cli/src/snapshots/deft__documents__tests__help.snap";
    let snapshot = std::fs::read_to_string(steps::root().join(snapshot))?;
    let help = snapshot.splitn(3, "---\n").nth(2).context("the snapshot has no head")?;
    Ok(help.replace("```text\n", "").replace("```\n", ""))
}

/// Texts of the console's catalogue with their keys.
fn add_texts(path: &str, texts: &serde_json::Value, page: &mut String) {
    for (key, value) in texts.as_object().into_iter().flatten() {
        let path = if path.is_empty() { key.clone() } else { format!("{path}.{key}") };
        match value.as_str() {
            Some(text) => *page += &format!("- {text} ({path})\n"),
            None => add_texts(&path, value, page),
        }
    }
}

/// Descriptions of the OpenAPI document, each once.
fn add_descriptions(value: &serde_json::Value, page: &mut String) {
    match value {
        serde_json::Value::Object(fields) => {
            for (key, value) in fields {
                match value.as_str().filter(|_| key == "description" || key == "summary") {
                    Some(text) => {
                        let line = text.split_whitespace().collect::<Vec<_>>().join(" ");
                        let line = format!("- {line}\n");
                        if !page.contains(&line) {
                            *page += &line;
                        }
                    }
                    None => add_descriptions(value, page),
                }
            }
        }
        serde_json::Value::Array(entries) => {
            entries.iter().for_each(|entry| add_descriptions(entry, page));
        }
        _ => {}
    }
}

/// Source files below a folder, in their order, without those of tests.
fn sources(folder: PathBuf) -> anyhow::Result<Vec<PathBuf>> {
    let mut found = Vec::new();
    let mut entries: Vec<_> = std::fs::read_dir(&folder)
        .with_context(|| format!("`{}` cannot be read", folder.display()))?
        .map(|entry| entry.map(|entry| entry.path()))
        .collect::<Result<_, _>>()?;
    entries.sort();
    for path in entries {
        let name = path.file_stem().and_then(|name| name.to_str()).unwrap_or_default();
        let is_test =
            name == "tests" || name.ends_with("_tests") || name == "fixture" || name == "snapshots";
        if is_test {
            continue;
        }
        if path.is_dir() {
            found.extend(sources(path)?);
        } else if path.extension().is_some_and(|extension| extension == "rs") {
            found.push(path);
        }
    }
    Ok(found)
}

/// Texts of a source file, in their order.
fn of_file(path: &Path) -> anyhow::Result<Vec<String>> {
    let source = std::fs::read_to_string(path)?;
    let file =
        syn::parse_file(&source).with_context(|| format!("`{}` is no Rust", path.display()))?;
    let mut texts = Vec::new();
    for item in file.items {
        if !is_for_tests(&item) {
            collect(item.to_token_stream(), &mut texts);
        }
    }
    Ok(texts)
}

fn is_for_tests(item: &syn::Item) -> bool {
    let attributes = match item {
        syn::Item::Mod(item) => &item.attrs,
        syn::Item::Fn(item) => &item.attrs,
        syn::Item::Impl(item) => &item.attrs,
        syn::Item::Use(_) | syn::Item::ExternCrate(_) => return true,
        _ => return false,
    };
    attributes.iter().any(|attribute| {
        attribute.path().is_ident("cfg")
            && attribute.meta.to_token_stream().to_string().contains("test")
    })
}

fn collect(tokens: TokenStream, texts: &mut Vec<String>) {
    let mut tokens = tokens.into_iter().peekable();
    let mut last = String::new();
    while let Some(token) = tokens.next() {
        match token {
            TokenTree::Punct(punct) if punct.as_char() == '#' => {
                if let Some(TokenTree::Group(group)) = tokens.peek() {
                    if group.delimiter() == Delimiter::Bracket && is_shown(group.stream()) {
                        collect(group.stream(), texts);
                    }
                    tokens.next();
                }
                last.clear();
            }
            TokenTree::Group(group) => {
                if !FOR_DEVELOPERS.contains(&last.as_str()) {
                    collect(group.stream(), texts);
                }
                last.clear();
            }
            TokenTree::Ident(ident) => last = ident.to_string(),
            TokenTree::Punct(punct) if punct.as_char() == '!' => {}
            TokenTree::Punct(_) => last.clear(),
            TokenTree::Literal(literal) => {
                if let Ok(text) = syn::parse2::<syn::LitStr>(TokenTree::Literal(literal).into()) {
                    texts.extend(text_of(&text.value()));
                }
                last.clear();
            }
        }
    }
}

/// Attributes whose texts a person sees; doc comments of the command line come with its help.
fn is_shown(attribute: TokenStream) -> bool {
    matches!(attribute.into_iter().next(), Some(TokenTree::Ident(name)) if name == "error")
}

/// A literal as one line, if it has words.
fn text_of(value: &str) -> Option<String> {
    let line = value.split_whitespace().collect::<Vec<_>>().join(" ");
    let words = line
        .split(' ')
        .filter(|word| word.chars().filter(|c| c.is_alphabetic()).count() > 1)
        .count();
    let is_sql = ["SELECT ", "INSERT ", "UPDATE ", "DELETE ", "WITH ", "CREATE "]
        .iter()
        .any(|start| line.starts_with(start));
    (words > 1 && !is_sql).then_some(line)
}
