use sea_orm_migration::prelude::*;
use sea_orm_migration::schema::json_binary_null;

/// What a route was proved with, beside the process that had the port.
#[derive(Debug)]
pub(crate) struct Migration;

impl MigrationName for Migration {
    fn name(&self) -> &'static str {
        "m0010_proof"
    }
}

#[async_trait::async_trait]
#[allow(
    elided_lifetimes_in_paths,
    reason = "the trait elides them, and async_trait compares"
)]
impl MigrationTrait for Migration {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        let table = Table::alter()
            .table("verdict")
            .add_column(json_binary_null("proof"))
            .to_owned();
        manager.alter_table(table).await
    }
}
