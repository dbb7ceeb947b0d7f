//! A storage of objects that speaks as much of S3 as a client of it needs: put, parts, copy, get, head, list and delete.
//!
//! It keeps everything in memory, looks at sums that are sent along, knows one key, and fails when it is told to.

use actix_web::{
    App, HttpRequest, HttpResponse, HttpServer,
    dev::Server,
    http::{Method, StatusCode, header},
    web::{self, Bytes, Data, PayloadConfig},
};
use base64::{Engine, prelude::BASE64_STANDARD};
use ring::digest::{SHA256, digest};
use std::{
    collections::{BTreeMap, HashMap},
    io,
    net::{SocketAddr, TcpListener},
    sync::{
        Arc, Mutex, PoisonError,
        atomic::{AtomicU32, Ordering},
    },
};

/// The key that it knows.
pub const KEY: &str = "QUAY-0001";
/// The secret to it. Signatures are not worked out again here.
pub const SECRET: &str = "a-made-up-secret";
/// The port of the demo.
pub const PORT: u16 = 7416;

/// The largest object or part taken in one piece, in bytes.
const LARGEST: usize = 64 << 20;

/// The key of an object to be, and the parts that came of it.
type Upload = (String, BTreeMap<u32, Bytes>);

/// What is stored, and what was asked.
#[derive(Default)]
pub struct Bucket {
    objects: Mutex<BTreeMap<String, Bytes>>,
    uploads: Mutex<BTreeMap<String, Upload>>,
    asked: Mutex<Vec<(String, String, usize)>>,
    /// So many requests to come are answered that it is busy.
    busy: AtomicU32,
    ids: AtomicU32,
}

impl Bucket {
    /// The objects by their keys, each with the name of its bucket in front.
    #[must_use]
    pub fn objects(&self) -> BTreeMap<String, Bytes> {
        self.objects.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// What was asked: the method, the path, and the bytes that were sent.
    #[must_use]
    pub fn asked(&self) -> Vec<(String, String, usize)> {
        self.asked.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Lets so many requests fail.
    pub fn is_busy_for(&self, requests: u32) {
        self.busy.store(requests, Ordering::Relaxed);
    }

    /// Parts that were sent and not put together or given up.
    #[must_use]
    pub fn unfinished(&self) -> usize {
        self.uploads.lock().unwrap_or_else(PoisonError::into_inner).len()
    }
}

/// Starts one on a loopback port (0 for any); its address and the running server.
///
/// # Errors
/// When the port is taken.
pub fn start(bucket: Arc<Bucket>, port: u16) -> io::Result<(SocketAddr, Server)> {
    let listener = TcpListener::bind(("127.0.0.1", port))?;
    let address = listener.local_addr()?;
    let app = move || {
        App::new().app_data(Data::from(bucket.clone())).app_data(PayloadConfig::new(LARGEST)).default_service(web::route().to(answer))
    };
    let server = HttpServer::new(app).workers(1).disable_signals().shutdown_timeout(1).listen(listener)?.run();
    Ok((address, server))
}

fn refused(status: StatusCode, code: &str) -> HttpResponse {
    xml(status, &format!("<Error><Code>{code}</Code><Message>{code}</Message></Error>"))
}

fn xml(status: StatusCode, body: &str) -> HttpResponse {
    HttpResponse::build(status).content_type("application/xml").body(format!("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n{body}"))
}

/// A path as the key it means: a client may write `=` as `%3D`.
fn decoded(path: &str) -> String {
    let pair = format!("key={}", path.trim_start_matches('/').replace('+', "%2B").replace('&', "%26"));
    serde_urlencoded::from_str::<Vec<(String, String)>>(&pair)
        .ok()
        .and_then(|pairs| pairs.into_iter().next())
        .map_or_else(String::new, |(_, key)| key)
}

fn tag(body: &[u8]) -> String {
    let hex: String = digest(&SHA256, body).as_ref()[..16].iter().map(|b| format!("{b:02x}")).collect();
    format!("\"{hex}\"")
}

async fn answer(bucket: Data<Bucket>, request: HttpRequest, body: Bytes) -> HttpResponse {
    let path = decoded(request.path());
    let query = web::Query::<HashMap<String, String>>::from_query(request.query_string()).map(web::Query::into_inner).unwrap_or_default();
    bucket.asked.lock().unwrap_or_else(PoisonError::into_inner).push((request.method().to_string(), path.clone(), body.len()));
    let told = |name: &str| request.headers().get(name).and_then(|v| v.to_str().ok()).map(str::to_owned);
    if !told("authorization").is_some_and(|text| text.contains(&format!("Credential={KEY}/"))) {
        return refused(StatusCode::FORBIDDEN, "InvalidAccessKeyId");
    }
    if bucket.busy.fetch_update(Ordering::Relaxed, Ordering::Relaxed, |n| n.checked_sub(1)).is_ok() {
        return refused(StatusCode::SERVICE_UNAVAILABLE, "SlowDown");
    }
    if let Some(sum) = told("x-amz-checksum-sha256").filter(|_| request.method() == Method::PUT)
        && sum != BASE64_STANDARD.encode(digest(&SHA256, &body))
    {
        return refused(StatusCode::BAD_REQUEST, "BadDigest");
    }
    let mut objects = bucket.objects.lock().unwrap_or_else(PoisonError::into_inner);
    let mut uploads = bucket.uploads.lock().unwrap_or_else(PoisonError::into_inner);
    match (request.method().as_str(), query.get("uploadId")) {
        ("PUT", Some(id)) => {
            let part = query.get("partNumber").and_then(|n| n.parse().ok());
            let (Some((_, parts)), Some(part)) = (uploads.get_mut(id), part) else { return refused(StatusCode::NOT_FOUND, "NoSuchUpload") };
            let tag = tag(&body);
            parts.insert(part, body);
            HttpResponse::Ok().insert_header((header::ETAG, tag)).finish()
        }
        ("POST", Some(id)) => {
            let Some((key, parts)) = uploads.remove(id) else { return refused(StatusCode::NOT_FOUND, "NoSuchUpload") };
            let whole: Vec<u8> = parts.into_values().flatten().collect();
            let tag = tag(&whole);
            objects.insert(key, whole.into());
            xml(StatusCode::OK, &format!("<CompleteMultipartUploadResult><ETag>{tag}</ETag></CompleteMultipartUploadResult>"))
        }
        ("DELETE", Some(id)) => {
            uploads.remove(id);
            HttpResponse::NoContent().finish()
        }
        ("POST", None) if query.contains_key("uploads") => {
            let id = format!("u{}", bucket.ids.fetch_add(1, Ordering::Relaxed));
            uploads.insert(id.clone(), (path, BTreeMap::new()));
            xml(StatusCode::OK, &format!("<InitiateMultipartUploadResult><UploadId>{id}</UploadId></InitiateMultipartUploadResult>"))
        }
        ("PUT", None) => match told("x-amz-copy-source") {
            Some(from) => {
                let Some(found) = objects.get(&decoded(&from)).cloned() else { return refused(StatusCode::NOT_FOUND, "NoSuchKey") };
                let tag = tag(&found);
                objects.insert(path, found);
                xml(StatusCode::OK, &format!("<CopyObjectResult><ETag>{tag}</ETag></CopyObjectResult>"))
            }
            None => {
                let tag = tag(&body);
                objects.insert(path, body);
                HttpResponse::Ok().insert_header((header::ETAG, tag)).finish()
            }
        },
        ("POST", None) if query.contains_key("delete") => {
            // Only keys stand between these marks.
            let keys = String::from_utf8_lossy(&body).replace("&amp;", "&");
            let mut gone = String::new();
            for key in keys.split("<Key>").skip(1).filter_map(|rest| rest.split("</Key>").next()) {
                objects.remove(&format!("{}/{key}", path.trim_end_matches('/')));
                gone += &format!("<Deleted><Key>{}</Key></Deleted>", key.replace('&', "&amp;"));
            }
            xml(StatusCode::OK, &format!("<DeleteResult>{gone}</DeleteResult>"))
        }
        ("DELETE", None) => {
            objects.remove(&path);
            HttpResponse::NoContent().finish()
        }
        ("GET", None) if query.contains_key("list-type") => listed(&objects, path.trim_end_matches('/'), &query),
        ("GET" | "HEAD", None) => {
            let Some(found) = objects.get(&path) else { return refused(StatusCode::NOT_FOUND, "NoSuchKey") };
            part(found, &request)
        }
        _ => refused(StatusCode::METHOD_NOT_ALLOWED, "MethodNotAllowed"),
    }
}

/// An object or the part of it that is asked for.
fn part(found: &Bytes, request: &HttpRequest) -> HttpResponse {
    use actix_web::http::header::{Header, Range};
    let total = found.len() as u64;
    let mut response = HttpResponse::Ok();
    response.insert_header((header::ETAG, tag(found))).insert_header((header::LAST_MODIFIED, "Thu, 10 Apr 2025 02:30:00 GMT"));
    let range = match Range::parse(request) {
        Ok(Range::Bytes(asked)) => asked.first().and_then(|one| one.to_satisfiable_range(total)),
        _ => None,
    };
    if *request.method() == Method::HEAD {
        response.no_chunking(total);
        return response.body(actix_web::body::SizedStream::new(total, futures_util::stream::empty::<Result<Bytes, io::Error>>()));
    }
    match range {
        None => response.body(found.clone()),
        Some((first, last)) => response
            .status(StatusCode::PARTIAL_CONTENT)
            .insert_header((header::CONTENT_RANGE, format!("bytes {first}-{last}/{total}")))
            .body(found.slice(first as usize..=last as usize)),
    }
}

/// The objects of a bucket under a prefix, and with a delimiter the folders among them.
fn listed(objects: &BTreeMap<String, Bytes>, bucket: &str, query: &HashMap<String, String>) -> HttpResponse {
    let prefix = query.get("prefix").map_or("", String::as_str);
    let delimiter = query.get("delimiter").filter(|d| !d.is_empty());
    let (mut out, mut folders) = (String::new(), std::collections::BTreeSet::new());
    let names = objects.iter().filter_map(|(key, body)| Some((key.strip_prefix(bucket)?.strip_prefix('/')?, body)));
    for (name, body) in names.filter(|(name, _)| name.starts_with(prefix)) {
        let rest = &name[prefix.len()..];
        if let Some(at) = delimiter.and_then(|d| rest.find(d.as_str()).map(|at| at + d.len())) {
            folders.insert(name[..prefix.len() + at].to_owned());
            continue;
        }
        out.push_str(&format!(
            "<Contents><Key>{name}</Key><LastModified>2025-04-10T02:30:00.000Z</LastModified><ETag>{}</ETag><Size>{}</Size></Contents>",
            tag(body).replace('"', "&quot;"),
            body.len()
        ));
    }
    out.extend(folders.iter().map(|folder| format!("<CommonPrefixes><Prefix>{folder}</Prefix></CommonPrefixes>")));
    xml(
        StatusCode::OK,
        &format!(
            "<ListBucketResult><Name>{bucket}</Name><Prefix>{prefix}</Prefix><IsTruncated>false</IsTruncated>{out}</ListBucketResult>"
        ),
    )
}
