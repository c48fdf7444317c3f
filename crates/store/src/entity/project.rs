use sea_orm::entity::prelude::*;

/// A project whose file was loaded.
#[derive(Clone, Debug, PartialEq, Eq, DeriveEntityModel)]
#[sea_orm(table_name = "project")]
pub struct Model {
    #[sea_orm(primary_key)]
    pub(crate) id: i64,
    /// The file.
    #[sea_orm(unique)]
    pub(crate) file: String,
    pub(crate) loaded_at: TimeDateTimeWithTimeZone,
    /// What came from it.
    pub(crate) loaded: Json,
}

#[derive(Clone, Copy, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
