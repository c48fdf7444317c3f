use sea_orm_migration::prelude::*;
use sea_orm_migration::schema::{big_pk_auto, json_binary, string_uniq, timestamp_with_time_zone};

/// The apps that the service runs.
#[derive(Debug)]
pub(crate) struct Migration;

impl MigrationName for Migration {
    fn name(&self) -> &'static str {
        "m0011_apps"
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
            .table("app")
            .col(big_pk_auto("id"))
            .col(string_uniq("name"))
            .col(timestamp_with_time_zone("created_at"))
            .col(json_binary("settings"))
            .col(json_binary("assigned"))
            .to_owned();
        manager.create_table(table).await
    }
}
