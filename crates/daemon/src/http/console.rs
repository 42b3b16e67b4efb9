//! The console's files, built into the binary. A path that is no file is one of the console's own
//! pages.

use super::problem::Refusal;
use super::service::Service;
use actix_web::{HttpRequest, HttpResponse, ResponseError, web};
use include_dir::{Dir, include_dir};
use karst_api::ProblemType;

static FILES: Dir = include_dir!("$OUT_DIR/console");
/// What each word on the screen means and what to do; the names link to it.
static RUNBOOK: &str = include_str!("../../../../docs/runbook.md");

pub fn routes(config: &mut web::ServiceConfig) {
    config.default_service(web::get().to(file));
}

async fn file(request: HttpRequest, service: web::Data<Service>) -> HttpResponse {
    let path = request.path().trim_start_matches('/');
    if path.starts_with("api/") {
        let what = format!("there is no call `/{path}`; see /openapi.json");
        return Refusal::new(ProblemType::NotFound, what).error_response();
    }
    if path == "runbook" {
        return HttpResponse::Ok()
            .content_type("text/plain; charset=utf-8")
            .body(RUNBOOK);
    }
    let Some(file) = FILES
        .get_file(path)
        .or_else(|| FILES.get_file("index.html"))
    else {
        return HttpResponse::NotFound().finish();
    };
    let kind = mime_guess::from_path(file.path()).first_or_octet_stream();
    // Names of built assets carry a hash of their content.
    let cache = if path.starts_with("assets/") {
        "public, max-age=31536000, immutable"
    } else {
        "no-cache"
    };
    HttpResponse::Ok()
        .content_type(kind.as_ref())
        .insert_header(("Cache-Control", cache))
        .insert_header((
            "Content-Security-Policy",
            format!(
                "default-src 'self'; img-src 'self' data:; style-src 'self' 'unsafe-inline'; connect-src 'self'{}; \
                 frame-ancestors 'none'; base-uri 'none'; form-action 'self'",
                service.consoles()
            ),
        ))
        .body(file.contents())
}
