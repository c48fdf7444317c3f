use std::net::IpAddr;
use std::sync::Arc;

use bentlane_core::check::FindingKind;
use bentlane_core::exchange::{Ending, Exchange, ExchangeFilter, Protocol, Timings};
use sea_orm::sea_query::Expr;
use sea_orm::{
    ColumnTrait, ConnectionTrait, DbBackend, DbErr, EntityTrait, QueryFilter, QueryOrder,
    QuerySelect, Statement,
};
use serde::Serialize;
use time::OffsetDateTime;

use crate::entity::exchange::{self, Column, Entity};
use crate::store::{Store, StoreError};

/// An exchange as a row: the columns' names are the fields'.
#[derive(Serialize)]
struct Row<'a> {
    id: i64,
    #[serde(with = "time::serde::rfc3339")]
    at: OffsetDateTime,
    route: Option<&'a str>,
    client: IpAddr,
    secure: bool,
    protocol: Protocol,
    method: &'a str,
    name: &'a str,
    path: &'a str,
    status: u16,
    ending: Ending,
    finding: Option<FindingKind>,
    received: i64,
    sent: i64,
    queue_us: i64,
    connect_us: Option<i64>,
    first_byte_us: i64,
    last_byte_us: i64,
}

impl Store {
    /// Keeps exchanges; gives how many were new.
    ///
    /// # Errors
    /// When the database is not reachable.
    pub async fn keep_exchanges(&self, exchanges: &[Arc<Exchange>]) -> Result<u64, StoreError> {
        if exchanges.is_empty() {
            return Ok(0);
        }
        let rows: Vec<Row<'_>> = exchanges.iter().map(|it| row(it)).collect();
        // As one value: a statement with a value for each column of each row takes ten times as long
        // to make, and to read.
        let rows = serde_json::to_string(&rows)
            .map_err(|error| StoreError::Database(DbErr::Custom(error.to_string())))?;
        let insert = Statement::from_sql_and_values(
            DbBackend::Postgres,
            "INSERT INTO exchange SELECT * FROM json_populate_recordset(NULL::exchange, $1::text::json) \
             ON CONFLICT DO NOTHING",
            [rows.into()],
        );
        let done = self.database().execute_raw(insert).await?;
        Ok(done.rows_affected())
    }

    /// The latest `most` exchanges that `filter` takes, before the one numbered `before`, latest last.
    ///
    /// # Errors
    /// When the database is not reachable, or holds what cannot be read.
    pub async fn exchanges(
        &self,
        filter: &ExchangeFilter,
        before: i64,
        most: u64,
    ) -> Result<Vec<Exchange>, StoreError> {
        let ExchangeFilter {
            route,
            status,
            method,
            text,
        } = filter;
        let mut query = Entity::find().filter(Column::Id.lt(before));
        if let Some(route) = route {
            query = query.filter(Column::Route.eq(route));
        }
        if let Some(status) = status {
            query = query.filter(Column::Status.between(status.from, status.to));
        }
        if let Some(method) = method {
            query = query.filter(Column::Method.eq(method.to_ascii_uppercase()));
        }
        if let Some(text) = text {
            let holds = "position($1 IN lower(name || path)) > 0";
            query = query.filter(Expr::cust_with_values(holds, [text.to_lowercase()]));
        }
        let rows = query
            .order_by_desc(Column::Id)
            .limit(most)
            .all(self.database())
            .await?;
        rows.into_iter().rev().map(read).collect()
    }

    /// Forgets exchanges from before `since`, and all but the latest `most`.
    ///
    /// # Errors
    /// When the database is not reachable.
    pub async fn forget_exchanges(
        &self,
        since: OffsetDateTime,
        most: u64,
    ) -> Result<(), StoreError> {
        Entity::delete_many()
            .filter(Column::At.lt(since))
            .exec(self.database())
            .await?;
        let most = i64::try_from(most).unwrap_or(i64::MAX);
        let too_many = Statement::from_sql_and_values(
            DbBackend::Postgres,
            "DELETE FROM exchange \
             WHERE id <= (SELECT id FROM exchange ORDER BY id DESC OFFSET $1 LIMIT 1)",
            [most.into()],
        );
        self.database().execute_raw(too_many).await?;
        Ok(())
    }
}

fn row(exchange: &Exchange) -> Row<'_> {
    let number = |number: u64| i64::try_from(number).unwrap_or(i64::MAX);
    let timings = &exchange.timings;
    Row {
        id: exchange.id,
        at: exchange.at,
        route: exchange.route.as_deref(),
        client: exchange.client,
        secure: exchange.secure,
        protocol: exchange.protocol,
        method: &exchange.method,
        name: &exchange.name,
        path: &exchange.path,
        status: exchange.status,
        ending: exchange.ending,
        finding: exchange.finding,
        received: number(exchange.received),
        sent: number(exchange.sent),
        queue_us: number(timings.queue_us),
        connect_us: timings.connect_us.map(number),
        first_byte_us: number(timings.first_byte_us),
        last_byte_us: number(timings.last_byte_us),
    }
}

fn read(row: exchange::Model) -> Result<Exchange, StoreError> {
    let unreadable = |kind, value: &str| StoreError::Unreadable {
        kind,
        value: value.to_owned(),
    };
    Ok(Exchange {
        id: row.id,
        at: row.at,
        route: row.route,
        client: row
            .client
            .parse()
            .map_err(|_| unreadable("client", &row.client))?,
        secure: row.secure,
        protocol: Protocol::named(&row.protocol)
            .ok_or_else(|| unreadable("protocol", &row.protocol))?,
        method: row.method,
        name: row.name,
        path: row.path,
        status: row.status.unsigned_abs(),
        ending: Ending::named(&row.ending).ok_or_else(|| unreadable("ending", &row.ending))?,
        finding: row.finding.as_deref().and_then(FindingKind::from_slug),
        received: row.received.unsigned_abs(),
        sent: row.sent.unsigned_abs(),
        timings: Timings {
            queue_us: row.queue_us.unsigned_abs(),
            connect_us: row.connect_us.map(i64::unsigned_abs),
            first_byte_us: row.first_byte_us.unsigned_abs(),
            last_byte_us: row.last_byte_us.unsigned_abs(),
        },
    })
}
