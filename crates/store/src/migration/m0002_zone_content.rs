use sea_orm_migration::prelude::*;
use sea_orm_migration::schema::json_binary_null;

/// What the names of a zone resolve to, and the user's own records in it.
#[derive(Debug)]
pub(crate) struct Migration;

impl MigrationName for Migration {
    fn name(&self) -> &'static str {
        "m0002_zone_content"
    }
}

#[async_trait::async_trait]
#[allow(
    elided_lifetimes_in_paths,
    reason = "the trait elides them, and async_trait compares"
)]
impl MigrationTrait for Migration {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        for column in ["settings", "records"] {
            let mut table = Table::alter().table("zone").to_owned();
            manager
                .alter_table(table.add_column(json_binary_null(column)).to_owned())
                .await?;
        }
        Ok(())
    }
}
