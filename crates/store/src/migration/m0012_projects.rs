use sea_orm_migration::prelude::*;
use sea_orm_migration::schema::{big_pk_auto, json_binary, string_uniq, timestamp_with_time_zone};

/// What came from which project's file.
#[derive(Debug)]
pub(crate) struct Migration;

impl MigrationName for Migration {
    fn name(&self) -> &'static str {
        "m0012_projects"
    }
}

#[async_trait::async_trait]
#[allow(
    elided_lifetimes_in_paths,
    reason = "the trait elides them, and async_trait compares"
)]
impl MigrationTrait for Migration {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        let table = Table::create()
            .table("project")
            .col(big_pk_auto("id"))
            .col(string_uniq("file"))
            .col(timestamp_with_time_zone("loaded_at"))
            .col(json_binary("loaded"))
            .to_owned();
        manager.create_table(table).await
    }
}
