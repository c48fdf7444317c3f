//! The steps that bring a database's tables to the form of this version.

use sea_orm_migration::prelude::*;

mod m0001_configuration;
mod m0002_zone_content;
mod m0003_route_settings;
mod m0004_route_port;
mod m0005_verdicts;
mod m0006_exchanges;
mod m0007_undo;
mod m0008_change_keys;
mod m0009_identity;
mod m0010_proof;
mod m0011_apps;
mod m0012_projects;

/// All steps, in order.
#[derive(Debug)]
pub(crate) struct Migrator;

impl MigratorTrait for Migrator {
    fn migrations() -> Vec<Box<dyn MigrationTrait>> {
        vec![
            Box::new(m0001_configuration::Migration),
            Box::new(m0002_zone_content::Migration),
            Box::new(m0003_route_settings::Migration),
            Box::new(m0004_route_port::Migration),
            Box::new(m0005_verdicts::Migration),
            Box::new(m0006_exchanges::Migration),
            Box::new(m0007_undo::Migration),
            Box::new(m0008_change_keys::Migration),
            Box::new(m0009_identity::Migration),
            Box::new(m0010_proof::Migration),
            Box::new(m0011_apps::Migration),
            Box::new(m0012_projects::Migration),
        ]
    }
}
