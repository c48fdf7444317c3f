//! The journal: every change, and how to undo one.

use std::collections::HashSet;

use bentlane_model::{Changed, JournalEntry, MachineAction, MachineChange, Route, Undo};
use sea_orm::ActiveValue::{NotSet, Set};
use sea_orm::{
    ColumnTrait, DatabaseTransaction, EntityTrait, QueryFilter, QueryOrder, QuerySelect,
};
use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::{Value, json};
use time::OffsetDateTime;

use super::{ROWS_AT_ONCE, Store, StoreError, from_json, revision_number, unreadable};
use crate::entity::journal::{ActiveModel, Column, Entity, Model};

/// What the journal says of one row that changed.
pub(crate) struct Entry {
    pub(crate) action: &'static str,
    pub(crate) kind: &'static str,
    pub(crate) subject: String,
    pub(crate) before: Option<Value>,
    pub(crate) after: Option<Value>,
}

impl Entry {
    pub(crate) fn of<T: Serialize>(
        kind: &'static str,
        subject: String,
        changed: Changed<&T>,
    ) -> Self {
        let value = |it: &T| json!(it);
        Self {
            action: match (changed.before, changed.after) {
                (None, _) => "add",
                (Some(_), None) => "remove",
                (Some(_), Some(_)) => "edit",
            },
            kind,
            subject,
            before: changed.before.map(value),
            after: changed.after.map(value),
        }
    }
}

/// Adds what a change did to the journal.
pub(crate) async fn write(
    transaction: &DatabaseTransaction,
    revision: i64,
    who: &str,
    undoes: Option<u64>,
    entries: Vec<Entry>,
) -> Result<(), StoreError> {
    let undoes = undoes.and_then(|revision| i64::try_from(revision).ok());
    for entry in entries {
        Entity::insert(ActiveModel {
            id: NotSet,
            revision: Set(revision),
            at: Set(OffsetDateTime::now_utc()),
            who: Set(who.to_owned()),
            action: Set(entry.action.to_owned()),
            kind: Set(entry.kind.to_owned()),
            subject: Set(entry.subject),
            before: Set(entry.before),
            after: Set(entry.after),
            undoes: Set(undoes),
        })
        .exec(transaction)
        .await?;
    }
    Ok(())
}

/// Whether there was no change yet.
pub(crate) async fn is_empty(transaction: &DatabaseTransaction) -> Result<bool, StoreError> {
    Ok(Entity::find().one(transaction).await?.is_none())
}

/// Every entry, the oldest first.
pub(crate) async fn all(
    transaction: &DatabaseTransaction,
) -> Result<Vec<JournalEntry>, StoreError> {
    let rows = Entity::find().order_by_asc(Column::Id).all(transaction);
    rows.await?.into_iter().map(read).collect()
}

/// Adds entries of another journal as they are.
pub(crate) async fn copy(
    transaction: &DatabaseTransaction,
    entries: &[JournalEntry],
) -> Result<(), StoreError> {
    let number =
        |revision: u64| i64::try_from(revision).map_err(|_| unreadable("revision", &revision));
    for some in entries.chunks(ROWS_AT_ONCE) {
        let rows = some.iter().map(|entry| {
            Ok(ActiveModel {
                id: NotSet,
                revision: Set(number(entry.revision)?),
                at: Set(entry.at),
                who: Set(entry.who.clone()),
                action: Set(entry.action.clone()),
                kind: Set(entry.kind.clone()),
                subject: Set(entry.subject.clone()),
                before: Set(entry.before.clone()),
                after: Set(entry.after.clone()),
                undoes: Set(entry.undoes.map(number).transpose()?),
            })
        });
        let rows: Vec<ActiveModel> = rows.collect::<Result<_, StoreError>>()?;
        Entity::insert_many(rows).exec(transaction).await?;
    }
    Ok(())
}

impl Store {
    /// The latest `most` entries of the journal, newest first.
    ///
    /// # Errors
    /// When the database is not reachable.
    pub async fn journal(&self, most: u64) -> Result<Vec<JournalEntry>, StoreError> {
        let rows = Entity::find().order_by_desc(Column::Id).limit(most);
        let rows = rows.all(self.database()).await?;
        rows.into_iter().map(read).collect()
    }

    /// What the change with this number did: the one that made this revision. Without a number it is
    /// the latest that is neither an undo nor undone.
    ///
    /// # Errors
    /// When there is no such change, or the database is not reachable.
    pub async fn change(&self, number: Option<u64>) -> Result<Vec<JournalEntry>, StoreError> {
        let revision = match number {
            Some(number) => {
                i64::try_from(number).map_err(|_| StoreError::NoSuchChange { number })?
            }
            None => self.latest_in_force().await?,
        };
        let rows = Entity::find()
            .filter(Column::Revision.eq(revision))
            .order_by_asc(Column::Id)
            .all(self.database())
            .await?;
        match number {
            Some(number) if rows.is_empty() => Err(StoreError::NoSuchChange { number }),
            _ => rows.into_iter().map(read).collect(),
        }
    }

    /// The revision of the latest change that is neither an undo nor undone.
    async fn latest_in_force(&self) -> Result<i64, StoreError> {
        let undos: Vec<(i64, Option<i64>)> = Entity::find()
            .select_only()
            .columns([Column::Revision, Column::Undoes])
            .distinct()
            .filter(Column::Undoes.is_not_null())
            .order_by_desc(Column::Revision)
            .into_tuple()
            .all(self.database())
            .await?;
        // From the newest on: an undo that was itself undone does not count.
        let mut undone = HashSet::new();
        for (revision, undoes) in undos {
            if !undone.contains(&revision) {
                undone.extend(undoes);
            }
        }
        let latest: Vec<i64> = Entity::find()
            .select_only()
            .column(Column::Revision)
            .distinct()
            .filter(Column::Undoes.is_null())
            .order_by_desc(Column::Revision)
            .limit(undone.len() as u64 + 1)
            .into_tuple()
            .all(self.database())
            .await?;
        let in_force = latest.into_iter().find(|it| !undone.contains(it));
        in_force.ok_or(StoreError::NothingToUndo)
    }
}

/// What the journal says of a change of this machine.
pub(crate) fn machine_entry(change: &MachineChange) -> Entry {
    let paths = change.paths.iter().map(|path| path.display().to_string());
    let value = Some(json!(change));
    let (action, before, after) = match change.action {
        MachineAction::Attach => ("attach", None, value),
        MachineAction::Detach => ("detach", value, None),
    };
    Entry {
        action,
        kind: MachineChange::KIND,
        subject: paths.collect::<Vec<_>>().join(", "),
        before,
        after,
    }
}

fn read(row: Model) -> Result<JournalEntry, StoreError> {
    Ok(JournalEntry {
        revision: revision_number(row.revision)?,
        at: row.at,
        who: row.who,
        action: row.action,
        kind: row.kind,
        subject: row.subject,
        before: row.before,
        after: row.after,
        undoes: row.undoes.map(revision_number).transpose()?,
    })
}

/// The change that undoes `entries`, all of one change.
///
/// # Errors
/// When an entry cannot be read.
pub fn undo_of(entries: &[JournalEntry]) -> Result<Undo, StoreError> {
    let mut undo = Undo::default();
    for entry in entries {
        undo.revision = entry.revision;
        match &*entry.kind {
            "zone" => undo.zones.push(changed(entry)?),
            "route" => undo.routes.push(changed(entry)?),
            "app" => undo.apps.push(changed(entry)?),
            "project" => undo.projects.push(changed(entry)?),
            // Several routes that were added at once.
            "routes" => {
                let added: Changed<Vec<Route>> = changed(entry)?;
                let added = added.after.unwrap_or_default().into_iter();
                undo.routes.extend(added.map(|route| Changed {
                    before: None,
                    after: Some(route),
                }));
            }
            other => return Err(unreadable("kind of change", &other)),
        }
    }
    Ok(undo)
}

fn changed<T: DeserializeOwned>(entry: &JournalEntry) -> Result<Changed<T>, StoreError> {
    let read = |value: &Option<Value>| {
        let value = value.clone();
        value
            .map(|value| from_json("entry of the journal", value))
            .transpose()
    };
    Ok(Changed {
        before: read(&entry.before)?,
        after: read(&entry.after)?,
    })
}
