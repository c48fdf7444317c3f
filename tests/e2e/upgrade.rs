//! WebSockets through the proxy.

use bentlane_tests::{App, World};
use futures_util::{SinkExt, StreamExt};
use tokio_tungstenite::tungstenite::Message;

#[tokio::test(flavor = "multi_thread")]
async fn websockets_work_in_both_directions() {
    let app = App::websocket();
    let world = World::with_routes(&[("radio.moor.test", &app.port())]);
    let stream = world.tls("radio.moor.test", "http/1.1").await;
    let (mut socket, response) = tokio_tungstenite::client_async("wss://radio.moor.test/", stream)
        .await
        .unwrap();
    assert_eq!(response.status(), 101);
    assert_eq!(response.headers()["via"], "1.1 bentlane");
    for message in [Message::text("hello"), Message::binary(vec![7; 300_000])] {
        socket.send(message.clone()).await.unwrap();
        assert_eq!(socket.next().await.unwrap().unwrap(), message);
    }
    socket.close(None).await.unwrap();
    while let Some(Ok(_)) = socket.next().await {}
}

#[tokio::test(flavor = "multi_thread")]
async fn a_target_that_does_not_upgrade_answers_normally() {
    let app = App::new();
    let world = World::with_routes(&[("a.moor.test", &app.port())]);
    let stream = world.tls("a.moor.test", "http/1.1").await;
    let refused = tokio_tungstenite::client_async("wss://a.moor.test/", stream)
        .await
        .unwrap_err();
    assert!(refused.to_string().contains("200"), "{refused}");
}
