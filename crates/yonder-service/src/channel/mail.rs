//! Email by SMTP (RFC 5321).

use lettre::message::header::ContentType;
use lettre::transport::smtp::authentication::Credentials;
use lettre::transport::smtp::client::{Tls, TlsParameters};
use lettre::{Message, SmtpTransport, Transport as _};
use secrecy::{ExposeSecret as _, SecretString};
use yonder_api::{AlertMessage, Channel, MailSecurity};
use yonder_records::parse_mail_server;

use super::{SendError, TIMEOUT};

fn failed(error: impl std::fmt::Display) -> SendError {
    SendError::Mail(error.to_string())
}

/// Sends one message to all mailboxes of the contact.
pub(super) fn send(
    channel: &Channel,
    secret: Option<&SecretString>,
    message: &AlertMessage,
) -> Result<(), SendError> {
    let Channel::Email { server, security, from, to, user } = channel else { return Ok(()) };
    let mail = compose(from, to, message)?;
    let (host, port) = parse_mail_server(server, *security).map_err(failed)?;
    let tls = || TlsParameters::new(host.clone()).map_err(failed);
    let tls = match security {
        MailSecurity::Tls => Tls::Wrapper(tls()?),
        MailSecurity::Starttls => Tls::Required(tls()?),
        MailSecurity::None => Tls::None,
    };
    let mut transport = SmtpTransport::builder_dangerous(&host).port(port).tls(tls).timeout(Some(TIMEOUT));
    if let (Some(user), Some(password)) = (user, secret) {
        transport =
            transport.credentials(Credentials::new(user.clone(), password.expose_secret().to_owned()));
    }
    let refused =
        |error: lettre::transport::smtp::Error| failed(format!("the mail server refused it: {error}"));
    transport.build().send(&mail).map(|_| ()).map_err(refused)
}

fn compose(from: &str, to: &[String], message: &AlertMessage) -> Result<Message, SendError> {
    let AlertMessage { kind, alert, subject, message, since, at, .. } = message;
    let mut mail = Message::builder()
        .from(from.parse().map_err(failed)?)
        .subject(format!("Yonder Relay: {alert}, {kind}: {subject}"))
        .header(ContentType::TEXT_PLAIN);
    for address in to {
        mail = mail.to(address.parse().map_err(failed)?);
    }
    let text = format!("{message}\n\nAlert   {alert}\nAbout   {subject}\nSince   {since}\nNow     {at}\n");
    mail.body(text).map_err(failed)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn mail_has_the_problem_in_its_subject_and_details_in_its_text() {
        let message = AlertMessage {
            kind: "raised".into(),
            alert: "Night".into(),
            subject: "push Summit → Bramble TV".into(),
            message: "It is down.".into(),
            since: "2026-11-23T02:00:00Z".into(),
            at: "2026-11-23T02:01:00Z".into(),
            messages: Vec::new(),
        };
        let mail = compose("relay@example.net", &["desk@example.net".into()], &message).unwrap();
        let text = String::from_utf8(mail.formatted()).unwrap();
        assert!(text.contains("To: desk@example.net") && text.contains("Subject: "), "{text}");
        assert!(text.contains("It is down.") && text.contains("2026-11-23T02:00:00Z"), "{text}");
    }
}
