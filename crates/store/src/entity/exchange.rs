use sea_orm::entity::prelude::*;

/// A request and its response.
#[derive(Clone, Debug, PartialEq, Eq, DeriveEntityModel)]
#[sea_orm(table_name = "exchange")]
pub struct Model {
    #[sea_orm(primary_key, auto_increment = false)]
    pub(crate) id: i64,
    pub(crate) at: TimeDateTimeWithTimeZone,
    pub(crate) route: Option<String>,
    pub(crate) client: String,
    pub(crate) secure: bool,
    pub(crate) protocol: String,
    pub(crate) method: String,
    pub(crate) name: String,
    pub(crate) path: String,
    pub(crate) status: i16,
    pub(crate) ending: String,
    pub(crate) finding: Option<String>,
    pub(crate) received: i64,
    pub(crate) sent: i64,
    pub(crate) queue_us: i64,
    pub(crate) connect_us: Option<i64>,
    pub(crate) first_byte_us: i64,
    pub(crate) last_byte_us: i64,
}

#[derive(Clone, Copy, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
