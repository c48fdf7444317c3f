use std::collections::HashMap;

use bentlane_checks::{Proof, Verdict};
use sea_orm::ActiveValue::{NotSet, Set};
use sea_orm::{
    ColumnTrait, EntityTrait, FromQueryResult, QueryFilter, QueryOrder, QuerySelect, Select,
};
use serde_json::json;
use time::OffsetDateTime;

use crate::entity::verdict;
use crate::store::{Store, StoreError, from_json};

/// A verdict to keep, and what the route was proved with.
#[derive(Clone, Debug)]
pub struct StoredVerdict {
    /// What the check came to.
    pub verdict: Verdict,
    /// That, the last time that it was proved.
    pub proof: Option<Proof>,
}

/// The state of a route from a moment on.
#[derive(Clone, Debug, PartialEq, Eq, FromQueryResult)]
pub struct StoredState {
    /// The route's address.
    pub address: String,
    /// From when.
    pub at: OffsetDateTime,
    /// Whether its check passed.
    pub passed: bool,
    /// Whether it passed and broke in turn.
    pub flapping: bool,
}

impl Store {
    /// Keeps verdicts.
    ///
    /// # Errors
    /// When the database is not reachable.
    pub async fn keep_verdicts(&self, kept: &[StoredVerdict]) -> Result<(), StoreError> {
        if kept.is_empty() {
            return Ok(());
        }
        let rows = kept.iter().map(|StoredVerdict { verdict, proof }| {
            let worst = verdict
                .worst()
                .map(|finding| finding.slug.slug().to_owned());
            verdict::ActiveModel {
                id: NotSet,
                address: Set(verdict.address.clone()),
                at: Set(verdict.checked_at),
                passed: Set(verdict.passed),
                flapping: Set(verdict.flapping),
                slug: Set(worst),
                verdict: Set(json!(verdict)),
                // Where earlier versions look for it.
                holder: Set(proof
                    .as_ref()
                    .and_then(|proof| proof.conditions.holder.as_ref())
                    .map(|holder| json!(holder))),
                proof: Set(proof.as_ref().map(|proof| json!(proof))),
            }
        });
        verdict::Entity::insert_many(rows)
            .exec_without_returning(self.database())
            .await?;
        Ok(())
    }

    /// The latest `most` verdicts of a route, newest first.
    ///
    /// # Errors
    /// When the database is not reachable, or holds what cannot be read.
    pub async fn verdicts(&self, address: &str, most: u64) -> Result<Vec<Verdict>, StoreError> {
        let rows = verdict::Entity::find()
            .filter(verdict::Column::Address.eq(address))
            .order_by_desc(verdict::Column::At)
            .order_by_desc(verdict::Column::Id)
            .limit(most)
            .all(self.database())
            .await?;
        let read = |row: verdict::Model| from_json("verdict", row.verdict);
        rows.into_iter().map(read).collect()
    }

    /// How each route has been since `from`: each change of its state, by address and oldest first, and
    /// before them the one that was in force at `from`.
    ///
    /// # Errors
    /// When the database is not reachable.
    pub async fn states_since(&self, from: OffsetDateTime) -> Result<Vec<StoredState>, StoreError> {
        let columns = |rows: Select<verdict::Entity>| {
            rows.select_only()
                .column(verdict::Column::Address)
                .column(verdict::Column::At)
                .column(verdict::Column::Passed)
                .column(verdict::Column::Flapping)
        };
        let before = verdict::Entity::find()
            .filter(verdict::Column::At.lt(from))
            .distinct_on([verdict::Column::Address])
            .order_by_asc(verdict::Column::Address)
            .order_by_desc(verdict::Column::At)
            .order_by_desc(verdict::Column::Id);
        let since = verdict::Entity::find()
            .filter(verdict::Column::At.gte(from))
            .order_by_asc(verdict::Column::Address)
            .order_by_asc(verdict::Column::At)
            .order_by_asc(verdict::Column::Id);
        let mut states: Vec<StoredState> = Vec::new();
        for rows in [before, since] {
            states.extend(columns(rows).into_model().all(self.database()).await?);
        }
        states.sort_by(|a, b| a.address.cmp(&b.address).then(a.at.cmp(&b.at)));
        Ok(states)
    }

    /// What each route was last proved with.
    ///
    /// # Errors
    /// When the database is not reachable.
    pub async fn proofs(&self) -> Result<HashMap<String, Proof>, StoreError> {
        let rows = verdict::Entity::find()
            .filter(verdict::Column::Proof.is_not_null())
            .order_by_asc(verdict::Column::Id)
            .select_only()
            .column(verdict::Column::Address)
            .column(verdict::Column::Proof)
            .into_tuple::<(String, serde_json::Value)>()
            .all(self.database())
            .await?;
        // The latest of each stands.
        let read = |(address, proof)| Ok((address, from_json("proof", proof)?));
        rows.into_iter().map(read).collect()
    }

    /// Forgets verdicts from before `since`; gives how many those were.
    ///
    /// # Errors
    /// When the database is not reachable.
    pub async fn forget_verdicts(&self, since: OffsetDateTime) -> Result<u64, StoreError> {
        let gone = verdict::Entity::delete_many()
            .filter(verdict::Column::At.lt(since))
            .exec(self.database())
            .await?;
        Ok(gone.rows_affected)
    }
}
