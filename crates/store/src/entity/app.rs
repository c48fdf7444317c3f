use sea_orm::entity::prelude::*;

/// An app.
#[derive(Clone, Debug, PartialEq, Eq, DeriveEntityModel)]
#[sea_orm(table_name = "app")]
pub struct Model {
    #[sea_orm(primary_key)]
    pub(crate) id: i64,
    #[sea_orm(unique)]
    pub(crate) name: String,
    pub(crate) created_at: TimeDateTimeWithTimeZone,
    /// What it runs, and when.
    pub(crate) settings: Json,
    /// The ports that were assigned to it, by their names.
    pub(crate) assigned: Json,
}

#[derive(Clone, Copy, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
