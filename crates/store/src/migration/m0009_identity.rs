use sea_orm_migration::prelude::*;

/// An identity, so that a service can tell the database from another one.
#[derive(Debug)]
pub(crate) struct Migration;

impl MigrationName for Migration {
    fn name(&self) -> &'static str {
        "m0009_identity"
    }
}

#[async_trait::async_trait]
#[allow(
    elided_lifetimes_in_paths,
    reason = "the trait elides them, and async_trait compares"
)]
impl MigrationTrait for Migration {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        let identity = "ALTER TABLE revision \
                        ADD COLUMN identity text NOT NULL DEFAULT gen_random_uuid()::text";
        let connection = manager.get_connection();
        connection.execute_unprepared(identity).await.map(drop)
    }
}
