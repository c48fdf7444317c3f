//! Files of a folder as a target: found without leaving the folder, and answered with as
//! RFC 9110 wants it: conditional requests (§13), ranges (§14).

use std::fs::{File, Metadata};
use std::io;
use std::path::{Component, Path, PathBuf};
use std::time::{SystemTime, UNIX_EPOCH};

use bentlane_model::{Folder, is_source};
use headers::{
    AcceptRanges, ContentRange, ETag, HeaderMapExt, IfModifiedSince, IfNoneMatch, IfRange,
    LastModified,
};
use http::header::{ALLOW, CACHE_CONTROL, CONTENT_TYPE, IF_RANGE, RANGE, X_CONTENT_TYPE_OPTIONS};
use http::{HeaderMap, HeaderValue, Method, Response, StatusCode, Uri, request};
use percent_encoding::percent_decode_str;
use rustix::fs::{Mode, OFlags, ResolveFlags, openat2};
use tokio::task::spawn_blocking;

use crate::file_body::FileBody;
use crate::pool::Boxed;
use crate::redirect::sent_to;
use crate::response_body::ResponseBody;

/// What answers for a folder.
const INDEX: &str = "index.html";

/// Why a folder has no answer to a request.
#[derive(Debug)]
pub(crate) enum FileError {
    /// There is no such file.
    Missing,
    /// The path leads out of the folder.
    Outside,
    /// It needs an interpreter, and its source is not to be served.
    Source(PathBuf),
    /// The folder itself, or the file, cannot be read.
    Unreadable(io::Error),
}

impl FileError {
    /// Whether there is no file that is to be served for the path, so that an app behind the folder
    /// answers.
    pub(crate) fn is_for_app(&self) -> bool {
        !matches!(self, Self::Unreadable(_))
    }
}

/// How a folder is served.
#[derive(Clone, Copy, Debug)]
pub(crate) struct FolderRules<'a> {
    /// The file for a path that has none.
    pub(crate) fallback: Option<&'a str>,
    /// Whether the source of files that need an interpreter is served.
    pub(crate) sources: bool,
    /// Whether an app answers for what is no file.
    pub(crate) has_app: bool,
}

/// What was found for a path.
enum Found {
    File(File, Box<Metadata>, PathBuf),
    /// A folder that was asked for without the final slash, which relative links need.
    Folder {
        has_index: bool,
    },
}

/// Answers a request with a file below `folder`, without the route's `prefix` in front of the path.
#[inline(never)]
pub(crate) fn answer<'a>(
    folder: &'a Folder,
    rules: FolderRules<'a>,
    path: &'a str,
    asked: &'a request::Parts,
) -> Boxed<'a, Result<Response<ResponseBody>, FileError>> {
    Box::pin(find_and_serve(folder, rules, path, asked))
}

async fn find_and_serve(
    folder: &Folder,
    rules: FolderRules<'_>,
    path: &str,
    asked: &request::Parts,
) -> Result<Response<ResponseBody>, FileError> {
    let request::Parts {
        method,
        uri,
        headers,
        ..
    } = asked;
    let is_for_file = matches!(*method, Method::GET | Method::HEAD);
    if rules.has_app && !is_for_file {
        return Err(FileError::Missing);
    }
    if !is_for_file {
        let mut response = Response::new(ResponseBody::own("files are for GET and HEAD\n"));
        *response.status_mut() = StatusCode::METHOD_NOT_ALLOWED;
        let allowed = HeaderValue::from_static("GET, HEAD");
        response.headers_mut().insert(ALLOW, allowed);
        return Ok(response);
    }
    let (root, wanted) = (folder.path().to_owned(), relative(path)?);
    let slash = path.ends_with('/');
    let fallback = rules.fallback.map(PathBuf::from);
    let finding = spawn_blocking(move || match find(&root, &wanted, slash) {
        Err(FileError::Missing) => match fallback {
            Some(file) => find(&root, &file, false),
            None => Err(FileError::Missing),
        },
        found => found,
    });
    let found = finding
        .await
        .map_err(|cause| FileError::Unreadable(io::Error::other(cause)))??;
    match found {
        Found::Folder { has_index: false } if rules.has_app => Err(FileError::Missing),
        Found::Folder { .. } => Ok(with_slash(uri)),
        Found::File(_, _, name) if !rules.sources && is_source(&name) => {
            Err(FileError::Source(name))
        }
        Found::File(file, metadata, name) => {
            serve(file, &metadata, &name, method, headers).map_err(FileError::Unreadable)
        }
    }
}

/// The path of a file by the path of a URL: decoded, and without anything that climbs.
fn relative(path: &str) -> Result<PathBuf, FileError> {
    let decoded = percent_decode_str(path)
        .decode_utf8()
        .map_err(|_| FileError::Missing)?;
    if decoded.contains('\0') {
        return Err(FileError::Missing);
    }
    let mut relative = PathBuf::new();
    for part in Path::new(decoded.trim_start_matches('/')).components() {
        match part {
            Component::Normal(name) => relative.push(name),
            Component::CurDir => {}
            Component::ParentDir | Component::RootDir | Component::Prefix(_) => {
                return Err(FileError::Outside);
            }
        }
    }
    Ok(relative)
}

fn find(root: &Path, wanted: &Path, slash: bool) -> Result<Found, FileError> {
    let folder = File::open(root).map_err(FileError::Unreadable)?;
    let own = Path::new(".");
    let path = if wanted.as_os_str().is_empty() {
        own
    } else {
        wanted
    };
    let (file, metadata) = open(&folder, path)?;
    if !metadata.is_dir() {
        // A file has nothing below it.
        return if slash {
            Err(FileError::Missing)
        } else {
            Ok(Found::File(file, Box::new(metadata), wanted.to_owned()))
        };
    }
    let index = wanted.join(INDEX);
    let opened = open(&folder, &index);
    if !slash {
        let has_index = opened.is_ok();
        return Ok(Found::Folder { has_index });
    }
    let (file, metadata) = opened?;
    if metadata.is_dir() {
        return Err(FileError::Missing);
    }
    Ok(Found::File(file, Box::new(metadata), index))
}

/// Opens a path below `folder`. The system itself sees to it that no link leads out.
fn open(folder: &File, path: &Path) -> Result<(File, Metadata), FileError> {
    let how = ResolveFlags::BENEATH | ResolveFlags::NO_MAGICLINKS;
    let flags = OFlags::RDONLY | OFlags::CLOEXEC | OFlags::NONBLOCK;
    let file = openat2(folder, path, flags, Mode::empty(), how).map_err(|error| match error {
        rustix::io::Errno::NOENT | rustix::io::Errno::NOTDIR => FileError::Missing,
        rustix::io::Errno::XDEV | rustix::io::Errno::LOOP => FileError::Outside,
        other => FileError::Unreadable(other.into()),
    })?;
    let file = File::from(file);
    let metadata = file.metadata().map_err(FileError::Unreadable)?;
    if metadata.is_dir() || metadata.is_file() {
        return Ok((file, metadata));
    }
    Err(FileError::Missing)
}

fn with_slash(uri: &Uri) -> Response<ResponseBody> {
    let query = uri.query().map(|query| format!("?{query}"));
    let location = format!("{}/{}", uri.path(), query.unwrap_or_default());
    sent_to(&location, StatusCode::TEMPORARY_REDIRECT)
}

fn serve(
    file: File,
    metadata: &Metadata,
    name: &Path,
    method: &Method,
    headers: &HeaderMap,
) -> io::Result<Response<ResponseBody>> {
    let modified = metadata.modified()?;
    let length = metadata.len();
    let tag = entity_tag(modified, length)?;
    let mut response = Response::new(ResponseBody::empty());
    let fields = response.headers_mut();
    let media = mime_guess::from_path(name).first_or_octet_stream();
    let media = match (media.type_(), media.get_param("charset")) {
        (mime_guess::mime::TEXT, None) => format!("{media}; charset=utf-8"),
        _ => media.to_string(),
    };
    let value = |text: &str| HeaderValue::try_from(text).map_err(io::Error::other);
    fields.insert(CONTENT_TYPE, value(&media)?);
    fields.insert(X_CONTENT_TYPE_OPTIONS, HeaderValue::from_static("nosniff"));
    // A developer's files change at any time, so clients revalidate, which a 304 answers.
    fields.insert(CACHE_CONTROL, HeaderValue::from_static("no-cache"));
    fields.typed_insert(AcceptRanges::bytes());
    fields.typed_insert(tag.clone());
    fields.typed_insert(LastModified::from(modified));
    if is_unchanged(headers, &tag, modified) {
        fields.remove(CONTENT_TYPE);
        *response.status_mut() = StatusCode::NOT_MODIFIED;
        return Ok(response);
    }
    let range = requested_range(headers, &tag, modified, length).filter(|_| *method == Method::GET);
    let (start, end) = match range {
        None => (0, length),
        Some(Ok((start, end))) => {
            let range = ContentRange::bytes(start..end, length).map_err(io::Error::other)?;
            fields.typed_insert(range);
            *response.status_mut() = StatusCode::PARTIAL_CONTENT;
            (start, end)
        }
        Some(Err(_)) => {
            fields.typed_insert(ContentRange::unsatisfied_bytes(length));
            *response.status_mut() = StatusCode::RANGE_NOT_SATISFIABLE;
            return Ok(response);
        }
    };
    if *method == Method::HEAD {
        let length = HeaderValue::from(length);
        response
            .headers_mut()
            .insert(http::header::CONTENT_LENGTH, length);
    } else {
        *response.body_mut() = ResponseBody::file(FileBody::new(file, start, end)?);
    }
    Ok(response)
}

/// A strong validator: length and time of the last change, to the nanosecond.
fn entity_tag(modified: SystemTime, length: u64) -> io::Result<ETag> {
    let since = modified.duration_since(UNIX_EPOCH).unwrap_or_default();
    let tag = format!("\"{:x}-{:x}\"", since.as_nanos(), length);
    tag.parse()
        .map_err(|_| io::Error::other("not an entity tag"))
}

/// Whether the client has this version already: `If-None-Match` takes precedence over
/// `If-Modified-Since` (RFC 9110 §13.2.2).
fn is_unchanged(headers: &HeaderMap, tag: &ETag, modified: SystemTime) -> bool {
    if let Some(tags) = headers.typed_get::<IfNoneMatch>() {
        return !tags.precondition_passes(tag);
    }
    let since = headers.typed_get::<IfModifiedSince>();
    since.is_some_and(|since| !since.is_modified(modified))
}

/// A range outside the file (RFC 9110 §15.5.17).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct Unsatisfiable;

/// The range that is requested (RFC 9110 §14.2): the first byte, and the one after the last; an error
/// when it lies outside. Several at once are answered with the whole file, which is allowed.
fn requested_range(
    headers: &HeaderMap,
    tag: &ETag,
    modified: SystemTime,
    length: u64,
) -> Option<Result<(u64, u64), Unsatisfiable>> {
    let range = headers.get(RANGE)?.to_str().ok()?;
    if headers.contains_key(IF_RANGE) {
        let condition = headers.typed_get::<IfRange>()?;
        if condition.is_modified(Some(tag), Some(&modified.into())) {
            return None;
        }
    }
    parse_range(range, length)
}

// By hand: `headers` drops a suffix that is longer than the file, which stands for all of it.
fn parse_range(range: &str, length: u64) -> Option<Result<(u64, u64), Unsatisfiable>> {
    let (first, last) = range.strip_prefix("bytes=")?.trim().split_once('-')?;
    if last.contains(',') {
        return None;
    }
    let number = |text: &str| text.parse::<u64>().ok();
    let (start, end) = match (first, last) {
        ("", suffix) => (length.saturating_sub(number(suffix)?), length),
        (first, "") => (number(first)?, length),
        (first, last) => {
            let (first, last) = (number(first)?, number(last)?);
            if last < first {
                return None;
            }
            (first, last.saturating_add(1).min(length))
        }
    };
    Some(match start < end {
        true => Ok((start, end)),
        false => Err(Unsatisfiable),
    })
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use http::header::{IF_MODIFIED_SINCE, IF_NONE_MATCH};
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("/a/b.html", Some("a/b.html"))]
    #[case("/a%20b", Some("a b"))]
    #[case("/a/./b//c", Some("a/b/c"))]
    #[case("/", Some(""))]
    #[case("/../a", None)]
    #[case("/a/%2e%2e/b", None)]
    #[case("/%00", None)]
    #[case("/%ff", None)]
    fn paths(#[case] path: &str, #[case] wanted: Option<&str>) {
        assert_eq!(relative(path).ok(), wanted.map(PathBuf::from), "{path}");
    }

    #[rstest]
    #[case("bytes=0-3", Some(Ok((0, 4))))]
    #[case("bytes=4-", Some(Ok((4, 10))))]
    #[case("bytes=-3", Some(Ok((7, 10))))]
    #[case("bytes=-30", Some(Ok((0, 10))))]
    #[case("bytes=8-99", Some(Ok((8, 10))))]
    #[case("bytes=10-", Some(Err(())))]
    #[case("bytes=-0", Some(Err(())))]
    #[case("bytes=5-2", None)]
    #[case("bytes=0-1,3-4", None)]
    #[case("lines=0-1", None)]
    #[case("bytes=a-b", None)]
    fn ranges(#[case] range: &'static str, #[case] wanted: Option<Result<(u64, u64), ()>>) {
        let mut headers = HeaderMap::new();
        headers.insert(RANGE, HeaderValue::from_static(range));
        let tag: ETag = "\"x\"".parse().unwrap();
        let asked = |headers: &HeaderMap| {
            let range = requested_range(headers, &tag, UNIX_EPOCH, 10);
            range.map(|range| range.map_err(|Unsatisfiable| ()))
        };
        assert_eq!(asked(&headers), wanted);
        headers.insert(IF_RANGE, HeaderValue::from_static("\"x\""));
        assert_eq!(asked(&headers), wanted);
        headers.insert(IF_RANGE, HeaderValue::from_static("\"other\""));
        assert_eq!(asked(&headers), None, "another version: everything");
    }

    #[rstest]
    #[case(IF_NONE_MATCH, "\"x\"", true)]
    #[case(IF_NONE_MATCH, "\"a\", W/\"x\"", true)]
    #[case(IF_NONE_MATCH, "*", true)]
    #[case(IF_NONE_MATCH, "\"y\"", false)]
    #[case(IF_MODIFIED_SINCE, "Thu, 01 Jan 1970 00:00:01 GMT", true)]
    #[case(IF_MODIFIED_SINCE, "Thu, 01 Jan 1970 00:00:00 GMT", false)]
    #[case(IF_MODIFIED_SINCE, "yesterday", false)]
    fn conditions(
        #[case] name: http::HeaderName,
        #[case] value: &'static str,
        #[case] unchanged: bool,
    ) {
        let mut headers = HeaderMap::new();
        headers.insert(name, HeaderValue::from_static(value));
        let modified = UNIX_EPOCH + Duration::from_millis(1500);
        let tag: ETag = "\"x\"".parse().unwrap();
        assert_eq!(is_unchanged(&headers, &tag, modified), unchanged);
    }
}
