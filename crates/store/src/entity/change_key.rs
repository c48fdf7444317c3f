use sea_orm::entity::prelude::*;
use time::OffsetDateTime;

/// A change that was made lately.
#[derive(Clone, Debug, PartialEq, Eq, DeriveEntityModel)]
#[sea_orm(table_name = "change_key")]
pub struct Model {
    /// Its key, which the caller chose.
    #[sea_orm(primary_key, auto_increment = false)]
    pub(crate) key: String,
    /// The revision that it made.
    pub(crate) revision: i64,
    /// When that was.
    pub(crate) at: OffsetDateTime,
}

#[derive(Clone, Copy, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
