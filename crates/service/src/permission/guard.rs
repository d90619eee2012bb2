//! Keeps web pages of others away: a page in the operator's browser can reach loopback, and would be taken
//! for the operator. So Host and Origin are checked on every request.

use actix_web::body::{EitherBody, MessageBody};
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::http::header::{HOST, HeaderName, HeaderValue, ORIGIN};
use actix_web::middleware::Next;
use actix_web::{Error, HttpMessage};
use deft_protocol::{Problem, ProblemKind, VERSION, VERSION_HEADER};
use uuid::Uuid;

use crate::routes::caller::RequestId;
use crate::routes::respond;

/// Header of every response: the id of the request. Clients of the chat-completions protocol report it with errors.
const REQUEST_ID: &str = "x-request-id";

/// Middleware: refuses foreign pages and foreign names, adds the version and an id to every response.
pub(crate) async fn guard<B: MessageBody + 'static>(
    request: ServiceRequest,
    next: Next<B>,
) -> Result<ServiceResponse<EitherBody<B>>, Error> {
    let id = Uuid::now_v7();
    request.extensions_mut().insert(RequestId(id));
    let mut response = match check(&request) {
        Ok(()) => next.call(request).await?.map_into_left_body(),
        Err(problem) => {
            let response = respond::refusal(request.path(), &problem);
            request.into_response(response).map_into_right_body()
        }
    };
    let headers = response.headers_mut();
    headers.insert(HeaderName::from_static(VERSION_HEADER), HeaderValue::from_static(VERSION));
    if let Ok(id) = HeaderValue::from_str(&id.to_string()) {
        headers.insert(HeaderName::from_static(REQUEST_ID), id);
    }
    Ok(response)
}

fn check(request: &ServiceRequest) -> Result<(), Problem> {
    // A value that is not text is neither ours nor absent.
    let text = |name: HeaderName| -> Option<&str> {
        Some(request.headers().get(name)?.to_str().unwrap_or("\u{fffd}"))
    };
    let host = text(HOST).or_else(|| request.uri().host()).unwrap_or_default().to_owned();
    if !is_loopback_name(&host) {
        return Err(Problem::new(
            ProblemKind::Forbidden,
            "host_refused",
            format!("the host name `{host}` is not served here"),
        )
        .with_way_out("use localhost or 127.0.0.1"));
    }
    let origin = text(ORIGIN);
    let own = [format!("http://{host}"), format!("https://{host}")];
    if origin.is_some_and(|origin| !own.iter().any(|own| own == origin)) {
        return Err(foreign(origin.unwrap_or_default()));
    }
    let site = text(HeaderName::from_static("sec-fetch-site"));
    let mode = text(HeaderName::from_static("sec-fetch-mode"));
    let follows_a_link = mode == Some("navigate") && request.method() == "GET";
    if matches!(site, Some("cross-site" | "same-site")) && !follows_a_link {
        return Err(foreign(origin.unwrap_or("another site")));
    }
    Ok(())
}

fn foreign(origin: &str) -> Problem {
    Problem::new(
        ProblemKind::Forbidden,
        "origin_refused",
        format!("web pages of `{origin}` cannot use this service"),
    )
    .with_way_out("use the console of the service, or a program")
}

/// Whether a Host header means this machine: anything else could be a name that a stranger points
/// here.
fn is_loopback_name(host: &str) -> bool {
    let name = match host.rsplit_once(':') {
        Some((name, port)) if port.chars().all(|digit| digit.is_ascii_digit()) => name,
        _ => host,
    };
    let address = name.trim_start_matches('[').trim_end_matches(']');
    name.eq_ignore_ascii_case("localhost")
        || address.parse::<std::net::IpAddr>().is_ok_and(|address| address.is_loopback())
}

#[cfg(test)]
mod tests {
    use actix_web::test::TestRequest;

    use super::*;

    fn verdict(headers: &[(&'static str, &str)]) -> Result<(), String> {
        let mut request = TestRequest::post().uri("/v1/chat/completions");
        for (name, value) in headers {
            request = request.insert_header((*name, *value));
        }
        check(&request.to_srv_request()).map_err(|problem| problem.code)
    }

    #[test]
    fn programs_and_the_own_console_pass() {
        assert_eq!(verdict(&[("host", "127.0.0.1:8471")]), Ok(()));
        assert_eq!(verdict(&[("host", "LOCALHOST:8471")]), Ok(()));
        assert_eq!(verdict(&[("host", "[::1]:8471")]), Ok(()));
        let own = [("host", "localhost:8471"), ("origin", "http://localhost:8471")];
        assert_eq!(verdict(&own), Ok(()));
    }

    #[test]
    fn names_that_strangers_could_point_here_are_refused() {
        for host in ["seeds.example", "127.0.0.1.seeds.example:8471", "localhost.seeds.example", ""]
        {
            assert_eq!(verdict(&[("host", host)]), Err("host_refused".to_owned()), "{host}");
        }
    }

    #[test]
    fn pages_of_others_are_refused() {
        for origin in ["http://seeds.example", "null", "http://localhost:3000", "http://localhost"]
        {
            let headers = [("host", "localhost:8471"), ("origin", origin)];
            assert_eq!(verdict(&headers), Err("origin_refused".to_owned()), "{origin}");
        }
        let request =
            TestRequest::post().uri("/manage/v1/plans").insert_header(("host", "localhost"));
        let odd = actix_web::http::header::HeaderValue::from_bytes(b"http://s\xe4men.example");
        let request = request.insert_header((ORIGIN, odd.unwrap())).to_srv_request();
        assert_eq!(
            check(&request).unwrap_err().code,
            "origin_refused",
            "an Origin that is no ASCII"
        );
        let headers = [("host", "localhost:8471"), ("sec-fetch-site", "cross-site")];
        assert_eq!(verdict(&headers), Err("origin_refused".to_owned()));
    }

    /// A refusal has an id too, which its caller can report; none comes from a caller.
    #[actix_web::test]
    async fn every_response_has_an_id_of_its_own() {
        let app = actix_web::App::new()
            .wrap(actix_web::middleware::from_fn(guard))
            .default_service(actix_web::web::to(actix_web::HttpResponse::Ok));
        let app = actix_web::test::init_service(app).await;
        let mut ids = std::collections::BTreeSet::new();
        for host in ["localhost", "localhost", "seeds.example"] {
            let request = TestRequest::get()
                .insert_header(("host", host))
                .insert_header((REQUEST_ID, "mine"))
                .to_request();
            let response = actix_web::test::call_service(&app, request).await;
            let id = response.headers().get(REQUEST_ID).unwrap().to_str().unwrap();
            assert!(Uuid::parse_str(id).is_ok(), "{id}");
            ids.insert(id.to_owned());
        }
        assert_eq!(ids.len(), 3);
    }
}
