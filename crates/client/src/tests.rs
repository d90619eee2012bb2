use std::io::{Read, Write};
use std::net::TcpListener;

use super::*;

#[tokio::test]
async fn a_question_is_asked_again_where_its_connection_was_closed_meanwhile() {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = format!("http://{}", listener.local_addr().unwrap());
    let service = std::thread::spawn(move || {
        for answer in ["", "HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\n42"] {
            let (mut connection, _) = listener.accept().unwrap();
            assert!(connection.read(&mut [0; 4096]).unwrap() > 0);
            connection.write_all(answer.as_bytes()).unwrap();
        }
    });
    let client = Client::new(&address).unwrap();
    assert_eq!(client.get::<u32>("manage/v1/larkfen").await.unwrap(), 42);
    service.join().unwrap();
    let refused = client.get::<u32>("manage/v1/larkfen").await.unwrap_err();
    assert!(matches!(refused, ClientError::NoService { .. }), "{refused:?}");
}
