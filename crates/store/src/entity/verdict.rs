use sea_orm::entity::prelude::*;

/// What a check of a route came to, when it differed from the one before.
#[derive(Clone, Debug, PartialEq, Eq, DeriveEntityModel)]
#[sea_orm(table_name = "verdict")]
pub struct Model {
    #[sea_orm(primary_key)]
    pub(crate) id: i64,
    pub(crate) address: String,
    pub(crate) at: TimeDateTimeWithTimeZone,
    pub(crate) passed: bool,
    pub(crate) flapping: bool,
    pub(crate) slug: Option<String>,
    pub(crate) verdict: Json,
    pub(crate) holder: Option<Json>,
    pub(crate) proof: Option<Json>,
}

#[derive(Clone, Copy, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
