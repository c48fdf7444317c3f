use sea_orm::entity::prelude::*;

/// A zone.
#[derive(Clone, Debug, PartialEq, Eq, DeriveEntityModel)]
#[sea_orm(table_name = "zone")]
pub struct Model {
    #[sea_orm(primary_key)]
    pub(crate) id: i64,
    #[sea_orm(unique)]
    pub(crate) name: String,
    pub(crate) created_at: TimeDateTimeWithTimeZone,
    /// What its names resolve to; the usual when it is null.
    pub(crate) settings: Option<Json>,
    /// The user's own records; none when it is null.
    pub(crate) records: Option<Json>,
}

#[derive(Clone, Copy, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
