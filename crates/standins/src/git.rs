//! A git host: the real `git http-backend` behind the web server, and a server for large files.

use std::process::Stdio;

use actix_web::http::StatusCode;
use actix_web::{HttpRequest, HttpResponse, web};
use bytes::Bytes;
use serde_json::{Value, json};
use tokio::io::AsyncWriteExt;
use tokio::process::Command;

use crate::hub::{State, unauthorized};

/// Passes a request to `git http-backend` (RFC 3875).
pub(crate) async fn backend(
    state: web::Data<State>,
    request: HttpRequest,
    path: web::Path<String>,
    body: Bytes,
) -> HttpResponse {
    if !state.admits(&request) {
        return unauthorized();
    }
    if let Some(answer) = redirected(&state, &request) {
        return answer;
    }
    let header = |name: &str| {
        let value = request.headers().get(name).and_then(|value| value.to_str().ok());
        value.unwrap_or_default().to_owned()
    };
    let child = Command::new("git")
        .arg("http-backend")
        .env("GIT_PROJECT_ROOT", state.folder().join("git"))
        .env("GIT_HTTP_EXPORT_ALL", "1")
        .env("GIT_CONFIG_COUNT", "1")
        .env("GIT_CONFIG_KEY_0", "safe.directory")
        .env("GIT_CONFIG_VALUE_0", "*")
        .env("GIT_PROTOCOL", header("git-protocol"))
        .env("HTTP_CONTENT_ENCODING", header("content-encoding"))
        .env("PATH_INFO", format!("/{path}"))
        .env("QUERY_STRING", request.query_string())
        .env("REQUEST_METHOD", request.method().as_str())
        .env("CONTENT_TYPE", header("content-type"))
        .env("CONTENT_LENGTH", body.len().to_string())
        .env("REMOTE_ADDR", "127.0.0.1")
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn();
    let Ok(mut child) = child else {
        return HttpResponse::InternalServerError().body("git cannot be started\n");
    };
    if let Some(mut input) = child.stdin.take() {
        tokio::spawn(async move {
            // If the program does not read to the end, its answer contains the reason.
            let _ = input.write_all(&body).await;
        });
    }
    match child.wait_with_output().await {
        Ok(output) => answer(&output.stdout),
        Err(error) => HttpResponse::InternalServerError().body(error.to_string()),
    }
}

/// Redirects the request with its query, if the behaviour requires it.
fn redirected(state: &State, request: &HttpRequest) -> Option<HttpResponse> {
    let to = state.behaviour().redirect?.replace("{path}", &request.uri().to_string());
    Some(HttpResponse::Found().insert_header(("location", to)).finish())
}

/// Parses headers and body of a CGI answer.
fn answer(output: &[u8]) -> HttpResponse {
    let end = output.windows(4).position(|window| window == b"\r\n\r\n");
    let Some(end) = end else {
        return HttpResponse::InternalServerError().body("git http-backend said nothing\n");
    };
    let mut response = HttpResponse::Ok();
    for line in String::from_utf8_lossy(&output[..end]).lines() {
        match line.split_once(": ") {
            Some(("Status", status)) => {
                let code = status.split(' ').next().and_then(|code| code.parse().ok());
                response.status(code.unwrap_or(StatusCode::INTERNAL_SERVER_ERROR));
            }
            Some((name, value)) => drop(response.insert_header((name, value))),
            None => {}
        }
    }
    response.body(output[end + 4..].to_vec())
}

/// Answers where large files are.
pub(crate) async fn batch(
    state: web::Data<State>,
    request: HttpRequest,
    question: web::Json<Value>,
) -> HttpResponse {
    if !state.admits(&request) {
        return unauthorized();
    }
    let objects = question["objects"].as_array().cloned().unwrap_or_default();
    let answers: Vec<Value> = objects
        .into_iter()
        .map(|object| {
            let id = object["oid"].as_str().unwrap_or_default();
            if state.folder().join("large").join(id).is_file() {
                let mut download = json!({"href": format!("/large/{id}")});
                if let Some(header) = request.headers().get("authorization") {
                    download["header"] =
                        json!({"Authorization": header.to_str().unwrap_or_default()});
                }
                json!({"oid": id, "size": object["size"], "actions": {"download": download}})
            } else {
                let error = json!({"code": 404, "message": "there is no such file"});
                json!({"oid": id, "size": object["size"], "error": error})
            }
        })
        .collect();
    HttpResponse::Ok()
        .content_type("application/vnd.git-lfs+json")
        .json(json!({"transfer": "basic", "objects": answers, "hash_algo": "sha256"}))
}
