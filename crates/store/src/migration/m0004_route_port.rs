use sea_orm_migration::prelude::*;
use sea_orm_migration::schema::integer;

/// Routes for raw TCP have a port.
#[derive(Debug)]
pub(crate) struct Migration;

impl MigrationName for Migration {
    fn name(&self) -> &'static str {
        "m0004_route_port"
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
        // 0 and not nothing for HTTP, so that two such rows differ in an index.
        let port = integer("port").default(0).to_owned();
        manager
            .alter_table(table.add_column(port).to_owned())
            .await?;
        // The unique index was made with the table, so it is a constraint of the table's.
        let former = "ALTER TABLE route DROP CONSTRAINT route_address";
        manager.get_connection().execute_unprepared(former).await?;
        let unique = Index::create()
            .unique()
            .name("route_address")
            .table("route")
            .col("name")
            .col("prefix")
            .col("port")
            .to_owned();
        manager.create_index(unique).await
    }
}
