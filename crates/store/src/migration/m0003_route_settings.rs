use sea_orm_migration::prelude::*;
use sea_orm_migration::schema::json_binary_null;

/// How a route leads to its target.
#[derive(Debug)]
pub(crate) struct Migration;

impl MigrationName for Migration {
    fn name(&self) -> &'static str {
        "m0003_route_settings"
    }
}

#[async_trait::async_trait]
#[allow(
    elided_lifetimes_in_paths,
    reason = "the trait elides them, and async_trait compares"
)]
impl MigrationTrait for Migration {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        let mut table = Table::alter().table("route").to_owned();
        manager
            .alter_table(table.add_column(json_binary_null("settings")).to_owned())
            .await
    }
}
