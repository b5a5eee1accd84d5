//! `yonder person …` and `yonder session …`

use clap::{Subcommand, ValueEnum};
use yonder_api::{Invitation, MadeInvitation, NewInvitation, Person, PersonChange, Role, Session};

use crate::client::Client;
use crate::failure::Failure;
use crate::output::{local, print, print_json, table, wants_json};

/// Role.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum RoleArgument {
    /// Reads everything except secrets.
    Viewer,
    /// Starts, stops, holds, resumes and rekeys relays as well.
    Operator,
    /// Changes everything and manages people.
    Admin,
}

impl From<RoleArgument> for Role {
    fn from(role: RoleArgument) -> Self {
        match role {
            RoleArgument::Viewer => Self::Viewer,
            RoleArgument::Operator => Self::Operator,
            RoleArgument::Admin => Self::Admin,
        }
    }
}

/// Returns the name of a role.
pub(crate) fn role_label(role: Role) -> &'static str {
    match role {
        Role::Viewer => "viewer",
        Role::Operator => "operator",
        Role::Admin => "admin",
    }
}

#[derive(Debug, Subcommand)]
pub(crate) enum PersonCommand {
    /// Invite a person by a link that is valid once, for three days; for an existing person, a link to a new password.
    Invite {
        /// Name of the person.
        name: String,
        /// Role; viewer by default.
        #[arg(long, value_enum, value_name = "ROLE")]
        role: Option<RoleArgument>,
    },
    /// Revoke an invitation.
    #[command(name = "uninvite")]
    RevokeInvitation {
        /// Name of the person.
        name: String,
    },
    /// List all people and open invitations.
    List,
    /// Change the role of a person, from their next request on.
    Edit {
        /// Name of the person.
        name: String,
        /// Role.
        #[arg(long, value_enum, value_name = "ROLE")]
        role: RoleArgument,
    },
    /// Remove a person with their sessions, tokens and invitations.
    Remove {
        /// Name of the person.
        name: String,
    },
}

#[derive(Debug, Subcommand)]
pub(crate) enum SessionCommand {
    /// List open sessions.
    List,
    /// End a session.
    End {
        /// ID of the session, as shown by `list`.
        id: String,
    },
}

pub(crate) fn run(command: PersonCommand, client: &Client) -> Result<(), Failure> {
    match command {
        PersonCommand::Invite { name, role } => {
            let new = NewInvitation { name, role: role.map(Role::from) };
            invited(&client.post(&["invitations"], &new)?, client)
        }
        PersonCommand::RevokeInvitation { name } => {
            client.delete(&["invitations", &name])?;
            print(&format!("The invitation of {name} was revoked.\n"));
            Ok(())
        }
        PersonCommand::List => {
            let (people, invitations) = (client.get(&["people"])?, client.get(&["invitations"])?);
            list(&people, &invitations)
        }
        PersonCommand::Edit { name, role } => {
            let change = PersonChange { role: role.into() };
            let person: Person = client.patch(&["people", &name], &change)?;
            if wants_json() {
                return print_json(&person);
            }
            print(&format!("{} is {} now.\n", person.name, role_label(person.role)));
            Ok(())
        }
        PersonCommand::Remove { name } => {
            client.delete(&["people", &name])?;
            print(&format!("{name} was removed and signed out.\n"));
            Ok(())
        }
    }
}

fn invited(made: &MadeInvitation, client: &Client) -> Result<(), Failure> {
    if wants_json() {
        return print_json(made);
    }
    let Invitation { name, role, resets, expires, .. } = &made.invitation;
    let what = if *resets { "choose a new password" } else { "choose a password and sign in" };
    print(&format!(
        "{name} ({}) can {what} until {}, once, at\n{}/join#{}\n",
        role_label(*role),
        local(expires),
        client.base(),
        made.code.expose()
    ));
    Ok(())
}

fn list(people: &Vec<Person>, invitations: &Vec<Invitation>) -> Result<(), Failure> {
    if wants_json() {
        return print_json(&serde_json::json!({ "people": people, "invitations": invitations }));
    }
    let row = |person: &Person| {
        let seen = person.seen.as_deref().map_or_else(|| "signed out".to_owned(), local);
        vec![person.name.clone(), role_label(person.role).to_owned(), local(&person.since), seen]
    };
    print(&table(&["NAME", "ROLE", "SINCE", "LAST SEEN"], &people.iter().map(row).collect::<Vec<_>>()));
    for invitation in invitations {
        let what = if invitation.resets { "password reset pending" } else { "is invited" };
        print(&format!(
            "{} {what} ({}, by {}, until {})\n",
            invitation.name,
            role_label(invitation.role),
            invitation.by,
            local(&invitation.expires)
        ));
    }
    Ok(())
}

pub(crate) fn run_session(command: &SessionCommand, client: &Client) -> Result<(), Failure> {
    match command {
        SessionCommand::List => {
            let sessions: Vec<Session> = client.get(&["sessions"])?;
            if wants_json() {
                return print_json(&sessions);
            }
            let row = |session: &Session| {
                let Session { id, person, agent, address, since, seen, .. } = session;
                vec![id.clone(), person.clone(), local(since), local(seen), address.clone(), agent.clone()]
            };
            let head = ["NUMBER", "PERSON", "SINCE", "LAST SEEN", "FROM", "BROWSER"];
            print(&table(&head, &sessions.iter().map(row).collect::<Vec<_>>()));
            Ok(())
        }
        SessionCommand::End { id } => {
            client.delete(&["sessions", id])?;
            print("The session was ended.\n");
            Ok(())
        }
    }
}
