//! Roles and their permissions.

/// Role of a person; each includes the permissions of those before it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Role {
    /// Reads everything except secrets.
    Viewer,
    /// Starts, stops, holds, resumes and rekeys existing relays, and measures them.
    Operator,
    /// Changes everything and manages people.
    Admin,
}

impl Role {
    const ALL: [Self; 3] = [Self::Viewer, Self::Operator, Self::Admin];

    /// Returns the name of the role.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Viewer => "viewer",
            Self::Operator => "operator",
            Self::Admin => "admin",
        }
    }

    /// Returns the role with this name; `keeper` is the former name of `admin`.
    #[must_use]
    pub fn from_name(word: &str) -> Option<Self> {
        let word = if word == "keeper" { "admin" } else { word };
        Self::ALL.into_iter().find(|role| role.as_str() == word)
    }

    /// Returns a plural of the role, for the message of a refusal.
    #[must_use]
    pub fn description(self) -> &'static str {
        match self {
            Self::Viewer => "a viewer can view",
            Self::Operator => "an operator can start, stop, hold and rekey",
            Self::Admin => "an admin can change the setup",
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn roles_are_ordered_and_have_names() {
        assert!(Role::Viewer < Role::Operator && Role::Operator < Role::Admin);
        for role in Role::ALL {
            assert_eq!(Role::from_name(role.as_str()), Some(role));
        }
        assert_eq!(Role::from_name("keeper"), Some(Role::Admin));
        assert_eq!(Role::from_name("owner"), None);
    }
}
