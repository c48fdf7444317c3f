use nix::unistd::{Uid, User};

/// A user by name and number.
pub(crate) fn user_name(uid: Option<u32>) -> String {
    let Some(uid) = uid else {
        return "an unknown user".to_owned();
    };
    match name_of(uid) {
        Some(name) => format!("{name} (uid {uid})"),
        None => format!("uid {uid}"),
    }
}

/// A user's name, if the system knows one.
pub(crate) fn name_of(uid: u32) -> Option<String> {
    let user = User::from_uid(Uid::from_raw(uid)).ok().flatten();
    user.map(|user| user.name)
}
