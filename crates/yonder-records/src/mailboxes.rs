//! Addresses of email contacts.

use lettre::message::Mailbox;
use yonder_address::Authority;
use yonder_api::MailSecurity;

/// Parses host and port of a mail server; the default port is that of the security.
///
/// # Errors
/// The reason, as text.
pub fn parse_mail_server(text: &str, security: MailSecurity) -> Result<(String, u16), String> {
    let default_port = match security {
        MailSecurity::Tls => 465,
        MailSecurity::Starttls => 587,
        MailSecurity::None => 25,
    };
    let authority = Authority::parse(text).map_err(|error| error.to_string())?;
    Ok((authority.host, authority.port.unwrap_or(default_port)))
}

/// Checks server and mailboxes before they are stored.
pub(super) fn read_mailboxes(
    server: &str,
    security: MailSecurity,
    from: &str,
    to: &[String],
) -> Result<(), (&'static str, String)> {
    parse_mail_server(server, security).map_err(|error| ("server", error))?;
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
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("mail.example.net", MailSecurity::Tls, 465)]
    #[case("mail.example.net", MailSecurity::Starttls, 587)]
    #[case("mail.example.net:2525", MailSecurity::None, 2_525)]
    fn default_ports_are_used(#[case] server: &str, #[case] security: MailSecurity, #[case] port: u16) {
        assert_eq!(parse_mail_server(server, security), Ok(("mail.example.net".into(), port)));
    }

    #[rstest]
    #[case("mail.example.net:99999", "a@example.net", &["b@example.net"], "server")]
    #[case("mail.example.net", "desk", &["b@example.net"], "from")]
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
