//! Programs that call a model of this server, for people who write their first one.

use deft_protocol::manage::{Snippet, SnippetLanguage, SnippetTask};
use serde_json::{Value, json};

/// Where and whom a snippet calls.
pub(crate) struct Called<'a> {
    /// The address of the service, such as `http://127.0.0.1:8471`.
    pub(crate) address: &'a str,
    /// The name of the variant.
    pub(crate) model: &'a str,
    /// The kinds of requests that it serves.
    pub(crate) serves: &'a [String],
    /// Whether `/v1` needs the operator's key.
    pub(crate) needs_key: bool,
}

/// A snippet for each task of the model in each language.
pub(crate) fn snippets(called: &Called<'_>) -> Vec<Snippet> {
    let serves = |what: &str| called.serves.iter().any(|served| served == what);
    let tasks = [
        (SnippetTask::Chat, serves("chat")),
        (SnippetTask::Completion, serves("completion")),
        (SnippetTask::Embeddings, serves("embeddings")),
        (SnippetTask::Rerank, serves("rerank")),
    ];
    let tasks = tasks.into_iter().filter(|(_, is_served)| *is_served);
    let of_task = |(task, _)| {
        SnippetLanguage::ALL.map(|language| Snippet {
            task,
            language,
            code: code(called, task, language),
        })
    };
    tasks.flat_map(of_task).collect()
}

/// The path of a task, its request, and where its result is in the response.
fn request(model: &str, task: SnippetTask) -> (&'static str, Value, &'static str) {
    match task {
        SnippetTask::Chat => (
            "/v1/chat/completions",
            json!({"model": model, "messages": [{"role": "user", "content": "Name three seeds to sow in spring."}]}),
            r#"["choices"][0]["message"]["content"]"#,
        ),
        SnippetTask::Completion => (
            "/v1/completions",
            json!({"model": model, "prompt": "In spring, gardeners sow", "max_tokens": 30}),
            r#"["choices"][0]["text"]"#,
        ),
        SnippetTask::Embeddings => (
            "/v1/embeddings",
            json!({"model": model, "input": ["Sow in spring.", "Harvest in autumn."]}),
            r#"["data"][0]["embedding"]"#,
        ),
        SnippetTask::Rerank => (
            "/v1/rerank",
            json!({"model": model, "query": "When do I sow beans?", "documents": ["Chard is sown in March.", "Beans are sown in May."]}),
            r#"["results"][0]"#,
        ),
    }
}

fn code(called: &Called<'_>, task: SnippetTask, language: SnippetLanguage) -> String {
    let (path, body, result) = request(called.model, task);
    let url = format!("{}{path}", called.address);
    let body = serde_json::to_string_pretty(&body).unwrap_or_default();
    match language {
        SnippetLanguage::Curl => {
            let key = match called.needs_key {
                // Not as an argument, which all users of the machine can read.
                true => " -H @<(echo \"Authorization: Bearer $DEFT_KEY\")",
                false => "",
            };
            // In single quotes, a shell leaves everything but a single quote unchanged.
            format!("curl {url}{key} --json '{}'\n", body.replace('\'', r"'\''"))
        }
        SnippetLanguage::Python => {
            let (import, key) = match called.needs_key {
                true => (
                    "json, os, urllib.request",
                    r#", "authorization": "Bearer " + os.environ["DEFT_KEY"]"#,
                ),
                false => ("json, urllib.request", ""),
            };
            format!(
                r#"import {import}

body = {body}
request = urllib.request.Request(
    "{url}",
    data=json.dumps(body).encode(),
    headers={{"content-type": "application/json"{key}}},
)
with urllib.request.urlopen(request) as response:
    print(json.load(response){result})
"#
            )
        }
        SnippetLanguage::Javascript => {
            let key = match called.needs_key {
                true => ", authorization: `Bearer ${process.env.DEFT_KEY}`",
                false => "",
            };
            format!(
                r#"const body = {body}
const response = await fetch("{url}", {{
  method: "POST",
  headers: {{ "content-type": "application/json"{key} }},
  body: JSON.stringify(body),
}})
console.log((await response.json()){result})
"#
            )
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_task_of_a_model_has_a_snippet_in_each_language() {
        let serves = ["chat", "completion", "tool calls"].map(str::to_owned);
        let called = Called {
            address: "http://127.0.0.1:8471",
            model: "larkfen-desk/q8_0",
            serves: &serves,
            needs_key: false,
        };
        let all = snippets(&called);
        assert_eq!(all.len(), 6);
        assert!(all.iter().all(|snippet| !snippet.code.contains("DEFT_KEY")));
        insta::assert_snapshot!(
            all[..3].iter().map(|snippet| &snippet.code[..]).collect::<Vec<_>>().join("---\n")
        );
        let with_key = snippets(&Called { needs_key: true, ..called });
        assert!(with_key.iter().all(|snippet| snippet.code.contains("DEFT_KEY")));
    }
}
