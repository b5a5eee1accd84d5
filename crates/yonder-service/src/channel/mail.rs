//! Email by SMTP (RFC 5321).

use lettre::message::Mailbox;
use lettre::message::header::ContentType;
use lettre::transport::smtp::authentication::Credentials;
use lettre::transport::smtp::client::{Tls, TlsParameters};
use lettre::{Message, SmtpTransport, Transport as _};
use secrecy::{ExposeSecret as _, SecretString};
use yonder_address::Authority;
use yonder_api::{AlertMessage, Channel, MailSecurity};

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
    let (host, port) = read_server(server, *security).map_err(failed)?;
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

/// Parses host and port; the port has a default.
pub(super) fn read_server(text: &str, security: MailSecurity) -> Result<(String, u16), String> {
    let default_port = match security {
        MailSecurity::Tls => 465,
        MailSecurity::Starttls => 587,
        MailSecurity::None => 25,
    };
    let authority = Authority::parse(text).map_err(|error| error.to_string())?;
    Ok((authority.host, authority.port.unwrap_or(default_port)))
}

/// Checks server and mailboxes before they are stored.
pub(crate) fn read_mailboxes(
    server: &str,
    security: MailSecurity,
    from: &str,
    to: &[String],
) -> Result<(), (&'static str, String)> {
    read_server(server, security).map_err(|error| ("server", error))?;
    let check = |field, text: &str| match text.parse::<Mailbox>() {
        Ok(_) => Ok(()),
        Err(error) => Err((field, format!("{text:?} is not a mail address: {error}"))),
    };
    check("from", from)?;
    if to.is_empty() {
        return Err(("to", "no recipient is given".to_owned()));
    }
    to.iter().try_for_each(|to| check("to", to))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("mail.example.net", MailSecurity::Tls, 465)]
    #[case("mail.example.net", MailSecurity::Starttls, 587)]
    #[case("mail.example.net:2525", MailSecurity::None, 2_525)]
    fn default_ports_are_used(#[case] server: &str, #[case] security: MailSecurity, #[case] port: u16) {
        assert_eq!(read_server(server, security), Ok(("mail.example.net".into(), port)));
    }

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

    #[rstest]
    #[case("mail.example.net:99999", "a@example.net", &["b@example.net"], "server")]
    #[case("mail.example.net", "nobody", &["b@example.net"], "from")]
    #[case("mail.example.net", "a@example.net", &["b@example.net", "@"], "to")]
    #[case("mail.example.net", "a@example.net", &[], "to")]
    fn invalid_value_is_refused_by_its_field(
        #[case] server: &str,
        #[case] from: &str,
        #[case] to: &[&str],
        #[case] field: &str,
    ) {
        let to: Vec<String> = to.iter().map(|to| (*to).to_owned()).collect();
        assert_eq!(read_mailboxes(server, MailSecurity::Tls, from, &to).unwrap_err().0, field);
    }
}
