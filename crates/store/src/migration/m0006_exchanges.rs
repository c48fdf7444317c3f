use sea_orm_migration::prelude::*;
use sea_orm_migration::schema::{
    big_integer, big_integer_null, boolean, small_integer, string, string_null,
    timestamp_with_time_zone,
};

/// What passed the proxy.
#[derive(Debug)]
pub(crate) struct Migration;

impl MigrationName for Migration {
    fn name(&self) -> &'static str {
        "m0006_exchanges"
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
            .table("exchange")
            .col(big_integer("id").primary_key())
            .col(timestamp_with_time_zone("at"))
            .col(string_null("route"))
            .col(string("client"))
            .col(boolean("secure"))
            .col(string("protocol"))
            .col(string("method"))
            .col(string("name"))
            .col(string("path"))
            .col(small_integer("status"))
            .col(string("ending"))
            .col(string_null("finding"))
            .col(big_integer("received"))
            .col(big_integer("sent"))
            .col(big_integer("queue_us"))
            .col(big_integer_null("connect_us"))
            .col(big_integer("first_byte_us"))
            .col(big_integer("last_byte_us"))
            .to_owned();
        manager.create_table(table).await?;
        // Rows are inserted in the order of time, so a BRIN index finds a time with a few bytes for each
        // range of blocks, and costs next to nothing with thousands of inserts a second.
        let by_time = Index::create()
            .name("exchange_at")
            .table("exchange")
            .index_type(IndexType::Custom("brin".into_iden()))
            .col("at")
            .to_owned();
        manager.create_index(by_time).await
    }
}
