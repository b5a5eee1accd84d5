//! Roles and their permissions.

/// Role of a person; each includes the permissions of those before it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Role {
    /// Sees everything but secrets, and changes nothing.
    Viewer,
    /// Starts, stops, holds, resumes and rekeys what is set up, and measures it.
    Operator,
    /// Changes everything, and looks after people.
    Admin,
}

impl Role {
    const ALL: [Self; 3] = [Self::Viewer, Self::Operator, Self::Admin];

    /// Its stable word.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Viewer => "viewer",
            Self::Operator => "operator",
            Self::Admin => "admin",
        }
    }

    /// The role of a word; `keeper` is the former name of `admin`.
    #[must_use]
    pub fn from_word(word: &str) -> Option<Self> {
        let word = if word == "keeper" { "admin" } else { word };
        Self::ALL.into_iter().find(|role| role.word() == word)
    }

    /// Returns the persons with this role, for the message of a refusal.
    #[must_use]
    pub fn in_words(self) -> &'static str {
        match self {
            Self::Viewer => "a viewer may look",
            Self::Operator => "an operator may start, stop, hold and rekey",
            Self::Admin => "an admin may change how things are set up",
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_role_may_do_what_those_before_it_may_and_keeps_its_word() {
        assert!(Role::Viewer < Role::Operator && Role::Operator < Role::Admin);
        for role in Role::ALL {
            assert_eq!(Role::from_word(role.word()), Some(role));
        }
        assert_eq!(Role::from_word("keeper"), Some(Role::Admin));
        assert_eq!(Role::from_word("owner"), None);
    }
}
