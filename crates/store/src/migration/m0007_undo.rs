use sea_orm_migration::prelude::*;
use sea_orm_migration::schema::big_integer_null;

/// The journal knows which change an entry undid.
#[derive(Debug)]
pub(crate) struct Migration;

impl MigrationName for Migration {
    fn name(&self) -> &'static str {
        "m0007_undo"
    }
}

#[async_trait::async_trait]
#[allow(
    elided_lifetimes_in_paths,
    reason = "the trait elides them, and async_trait compares"
)]
impl MigrationTrait for Migration {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        let mut table = Table::alter().table("journal").to_owned();
        let undoes = big_integer_null("undoes");
        manager
            .alter_table(table.add_column(undoes).to_owned())
            .await
    }
}
