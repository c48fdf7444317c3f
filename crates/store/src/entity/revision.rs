use sea_orm::entity::prelude::*;

/// The one row that counts the changes; whoever changes anything locks it first.
#[derive(Clone, Debug, PartialEq, Eq, DeriveEntityModel)]
#[sea_orm(table_name = "revision")]
pub struct Model {
    #[sea_orm(primary_key, auto_increment = false)]
    pub(crate) id: i32,
    pub(crate) number: i64,
    /// Which database it is.
    pub(crate) identity: String,
}

#[derive(Clone, Copy, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
