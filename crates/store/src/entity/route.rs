use sea_orm::entity::prelude::*;

/// A route.
#[derive(Clone, Debug, PartialEq, Eq, DeriveEntityModel)]
#[sea_orm(table_name = "route")]
pub struct Model {
    #[sea_orm(primary_key)]
    pub(crate) id: i64,
    /// A name or `*.NAME`; unique together with `prefix` and `port`.
    pub(crate) name: String,
    pub(crate) prefix: String,
    pub(crate) target: String,
    pub(crate) created_at: TimeDateTimeWithTimeZone,
    /// How it leads there; nothing when nothing was chosen.
    pub(crate) settings: Option<Json>,
    /// The port of a route for raw TCP, 0 for HTTP.
    pub(crate) port: i32,
}

#[derive(Clone, Copy, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
