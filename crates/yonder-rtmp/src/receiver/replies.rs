//! Responses of the receiving side.

use crate::amf0::Value;
use crate::command::Command;
use crate::message::MessageKind;

use super::{MAX_MEDIA, Receiver, WINDOW};

impl Receiver {
    /// Accepts the application.
    pub fn accept_connect(&mut self) {
        self.send_control(MessageKind::WindowSize, &WINDOW.to_be_bytes());
        let mut bandwidth = WINDOW.to_be_bytes().to_vec();
        bandwidth.push(2); // dynamic
        self.send_control(MessageKind::PeerBandwidth, &bandwidth);
        let chunk_size = 4096_u32;
        self.send_control(MessageKind::SetChunkSize, &chunk_size.to_be_bytes());
        self.writer.set_chunk_size(4096);
        let information = information("status", "NetConnection.Connect.Success", "connection accepted");
        let mut properties =
            vec![("fmsVer".to_owned(), concat!("Yonder Relay ", env!("CARGO_PKG_VERSION")).into())];
        if !self.four_ccs.is_empty() {
            let names = self.four_ccs.iter().map(|name| name.as_str().into()).collect();
            properties.push(("fourCcList".to_owned(), Value::List(names)));
        }
        let values = vec![Value::Object(properties), information];
        let reply = Command::new("_result", self.connect_transaction, values);
        self.send_command(0, &reply);
    }

    /// Accepts the application as a server of Enhanced RTMP with the given video codecs.
    pub fn accept_connect_with(&mut self, four_ccs: &[&str]) {
        self.four_ccs = four_ccs.iter().map(|name| (*name).to_owned()).collect();
        self.accept_connect();
    }

    /// Refuses the application with a redirect to another server.
    pub fn redirect(&mut self, target: &str) {
        let extension = Value::Object(vec![
            ("code".to_owned(), Value::Number(302.0)),
            ("redirect".to_owned(), target.into()),
        ]);
        let mut information = information("error", "NetConnection.Connect.Rejected", "moved");
        if let Value::Object(members) = &mut information {
            members.push(("ex".to_owned(), extension));
        }
        let reply = Command::new("_error", self.connect_transaction, vec![Value::Null, information]);
        self.send_command(0, &reply);
    }

    /// Requests a new connection in place of this one, to `target` if given (Enhanced RTMP v2).
    pub fn request_reconnect(&mut self, target: Option<&str>) {
        let mut information =
            information("status", "NetConnection.Connect.ReconnectRequest", "this server is drained");
        if let (Value::Object(members), Some(target)) = (&mut information, target) {
            members.push(("tcUrl".to_owned(), target.into()));
        }
        self.send_command(0, &Command::new("onStatus", 0.0, vec![Value::Null, information]));
    }

    /// Refuses the application with a description.
    pub fn refuse_connect(&mut self, words: &str) {
        let information = information("error", "NetConnection.Connect.Rejected", words);
        let reply = Command::new("_error", self.connect_transaction, vec![Value::Null, information]);
        self.send_command(0, &reply);
    }

    /// Accepts the stream key.
    pub fn accept_publish(&mut self) {
        self.is_publishing = true;
        self.reader.set_max_message(MAX_MEDIA);
        // Stream Begin (7.1.7, event 0).
        let [a, b, c, d] = self.stream.to_be_bytes();
        self.send_control(MessageKind::UserControl, &[0, 0, a, b, c, d]);
        self.send_status("status", "NetStream.Publish.Start", "publishing");
    }

    /// Refuses the stream key with a description.
    pub fn refuse_publish(&mut self, words: &str) {
        self.send_status("error", "NetStream.Publish.BadName", words);
    }

    /// Ends a running broadcast with a description.
    pub fn end_broadcast(&mut self, words: &str) {
        self.send_status("error", "NetStream.Publish.Rejected", words);
    }

    /// Sends a ping request (7.1.7, event 6).
    pub fn ping(&mut self, time: u32) {
        let [a, b, c, d] = time.to_be_bytes();
        self.send_control(MessageKind::UserControl, &[0, 6, a, b, c, d]);
    }

    fn send_status(&mut self, level: &str, code: &str, words: &str) {
        let values = vec![Value::Null, information(level, code, words)];
        self.send_command(self.stream, &Command::new("onStatus", 0.0, values));
    }
}

fn information(level: &str, code: &str, description: &str) -> Value {
    Value::Object(vec![
        ("level".to_owned(), level.into()),
        ("code".to_owned(), code.into()),
        ("description".to_owned(), description.into()),
    ])
}
