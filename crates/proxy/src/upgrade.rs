use http::header::{CONNECTION, UPGRADE};
use http::{HeaderValue, Response};
use hyper::body::Incoming;
use hyper::upgrade::OnUpgrade;
use hyper_util::rt::TokioIo;
use tokio::io::copy_bidirectional;
use tracing::debug;

use crate::body::ResponseBody;
use crate::headers::{append_via, remove_hop_by_hop};

/// Passes on the target's 101 and then, in a task of its own, every octet both ways until both
/// sides have closed.
pub(crate) fn join(
    mut response: Response<Incoming>,
    client_side: OnUpgrade,
) -> Response<ResponseBody> {
    let target_side = hyper::upgrade::on(&mut response);
    tokio::spawn(async move {
        let (client, target) = match tokio::try_join!(client_side, target_side) {
            Ok(sides) => sides,
            Err(cause) => return debug!(%cause, "an upgrade did not come about"),
        };
        let (mut client, mut target) = (TokioIo::new(client), TokioIo::new(target));
        if let Err(cause) = copy_bidirectional(&mut client, &mut target).await {
            debug!(%cause, "an upgraded connection ended early");
        }
    });
    let (mut parts, _) = response.into_parts();
    let protocol = parts.headers.get(UPGRADE).cloned();
    remove_hop_by_hop(&mut parts.headers);
    append_via(&mut parts.headers);
    if let Some(protocol) = protocol {
        parts.headers.insert(UPGRADE, protocol);
        parts
            .headers
            .insert(CONNECTION, HeaderValue::from_static("upgrade"));
    }
    Response::from_parts(parts, ResponseBody::empty())
}
