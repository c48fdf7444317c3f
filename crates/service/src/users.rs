use nix::unistd::{Uid, User};

/// A user by name and number.
pub(crate) fn user_name(uid: Option<u32>) -> String {
    let Some(uid) = uid else {
        return "an unknown user".to_owned();
    };
    match User::from_uid(Uid::from_raw(uid)) {
        Ok(Some(user)) => format!("{} (uid {uid})", user.name),
        Ok(None) | Err(_) => format!("uid {uid}"),
    }
}
