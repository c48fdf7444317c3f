use sea_orm_migration::prelude::*;
use sea_orm_migration::schema::{
    big_integer, integer, json_binary_null, pk_auto, text, text_uniq, timestamp_with_time_zone,
};

/// Zones, routes, their revision and the journal.
#[derive(Debug)]
pub(crate) struct Migration;

impl MigrationName for Migration {
    fn name(&self) -> &'static str {
        "m0001_configuration"
    }
}

#[async_trait::async_trait]
#[allow(
    elided_lifetimes_in_paths,
    reason = "the trait elides them, and async_trait compares"
)]
impl MigrationTrait for Migration {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        let id = || pk_auto("id").big_integer().to_owned();
        let table = |name: &'static str| Table::create().table(name).to_owned();
        manager
            .create_table(
                table("zone")
                    .col(id())
                    .col(text_uniq("name"))
                    .col(timestamp_with_time_zone("created_at"))
                    .to_owned(),
            )
            .await?;
        manager
            .create_table(
                table("route")
                    .col(id())
                    .col(text("name"))
                    .col(text("prefix"))
                    .col(text("target"))
                    .col(timestamp_with_time_zone("created_at"))
                    .index(
                        Index::create()
                            .unique()
                            .name("route_address")
                            .col("name")
                            .col("prefix"),
                    )
                    .to_owned(),
            )
            .await?;
        manager
            .create_table(
                table("revision")
                    .col(integer("id").primary_key())
                    .col(big_integer("number"))
                    .to_owned(),
            )
            .await?;
        manager
            .create_table(
                table("journal")
                    .col(id())
                    .col(big_integer("revision"))
                    .col(timestamp_with_time_zone("at"))
                    .col(text("who"))
                    .col(text("action"))
                    .col(text("kind"))
                    .col(text("subject"))
                    .col(json_binary_null("before"))
                    .col(json_binary_null("after"))
                    .to_owned(),
            )
            .await?;
        let first = Query::insert()
            .into_table("revision")
            .columns(["id", "number"])
            .values_panic([1.into(), 0.into()])
            .to_owned();
        manager.exec_stmt(first).await
    }
}
