use sea_orm::entity::prelude::*;

/// One change of the configuration.
#[derive(Clone, Debug, PartialEq, Eq, DeriveEntityModel)]
#[sea_orm(table_name = "journal")]
pub struct Model {
    #[sea_orm(primary_key)]
    pub(crate) id: i64,
    pub(crate) revision: i64,
    pub(crate) at: TimeDateTimeWithTimeZone,
    pub(crate) who: String,
    pub(crate) action: String,
    pub(crate) kind: String,
    pub(crate) subject: String,
    pub(crate) before: Option<Json>,
    pub(crate) after: Option<Json>,
    pub(crate) undoes: Option<i64>,
}

#[derive(Clone, Copy, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
