use bentlane_checks::FindingKind;
use bentlane_traffic::{Ending, Exchange, ExchangeFilter, Protocol, Timings};
use sea_orm::sea_query::Expr;
use sea_orm::sqlx;
use sea_orm::sqlx::postgres::PgPoolCopyExt;
use sea_orm::{
    ColumnTrait, ConnectionTrait, DbBackend, DbErr, EntityTrait, QueryFilter, QueryOrder,
    QuerySelect, RuntimeErr, Statement,
};
use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;

use crate::entity::exchange::{self, Column, Entity};
use crate::store::{Store, StoreError};

/// The columns of a row, in the order in which [`write`] gives them.
const COLUMNS: &str = "id, at, route, client, secure, protocol, method, name, path, status, ending, \
    finding, received, sent, queue_us, connect_us, first_byte_us, last_byte_us";

impl Store {
    /// Keeps exchanges, none of which was kept before: all or none.
    ///
    /// # Errors
    /// When the database is not reachable, in which case they may have been kept or not.
    pub async fn keep_exchanges(&self, exchanges: &[Exchange]) -> Result<(), StoreError> {
        let mut rows = String::new();
        for exchange in exchanges {
            write(exchange, &mut rows);
        }
        // As the stream of a COPY, which costs the database a third of what a statement does.
        let copy = format!("COPY exchange ({COLUMNS}) FROM STDIN");
        let pool = self.database().get_postgres_connection_pool();
        let mut stream = pool.copy_in_raw(&copy).await.map_err(failed)?;
        match stream.send(rows.as_bytes()).await {
            Ok(_) => stream.finish().await.map(drop).map_err(failed),
            Err(cause) => {
                // Why it cannot be sent is what counts; the connection is of no use then.
                let _ = stream.abort("it cannot be sent").await;
                Err(failed(cause))
            }
        }
    }

    /// The number of the latest exchange that is kept.
    ///
    /// # Errors
    /// When the database is not reachable.
    pub async fn last_exchange(&self) -> Result<Option<i64>, StoreError> {
        let latest = Entity::find()
            .select_only()
            .column(Column::Id)
            .order_by_desc(Column::Id)
            .limit(1);
        Ok(latest.into_tuple().one(self.database()).await?)
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

fn failed(error: sqlx::Error) -> StoreError {
    DbErr::Exec(RuntimeErr::SqlxError(error.into())).into()
}

/// Adds an exchange as a line of COPY's text format (PostgreSQL's manual, COPY, "Text Format").
fn write(exchange: &Exchange, rows: &mut String) {
    let number = |number: u64| Some(i64::try_from(number).unwrap_or(i64::MAX).to_string());
    let text = |text: &str| Some(text.to_owned());
    let timings = &exchange.timings;
    let fields = [
        Some(exchange.id.to_string()),
        exchange.at.format(&Rfc3339).ok(),
        exchange.route.clone(),
        Some(exchange.client.to_string()),
        text(if exchange.secure { "t" } else { "f" }),
        text(exchange.protocol.as_str()),
        text(&exchange.method),
        text(&exchange.name),
        text(&exchange.path),
        Some(exchange.status.to_string()),
        text(exchange.ending.as_str()),
        exchange.finding.map(|finding| finding.slug().to_owned()),
        number(exchange.received),
        number(exchange.sent),
        number(timings.queue_us),
        timings.connect_us.and_then(number),
        number(timings.first_byte_us),
        number(timings.last_byte_us),
    ];
    for (place, field) in fields.iter().enumerate() {
        if place > 0 {
            rows.push('\t');
        }
        match field {
            None => rows.push_str("\\N"),
            Some(field) => escape(field, rows),
        }
    }
    rows.push('\n');
}

fn escape(field: &str, rows: &mut String) {
    for letter in field.chars() {
        match letter {
            '\\' => rows.push_str("\\\\"),
            '\t' => rows.push_str("\\t"),
            '\n' => rows.push_str("\\n"),
            '\r' => rows.push_str("\\r"),
            letter => rows.push(letter),
        }
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

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("/huts?night=12", "/huts?night=12")]
    #[case("", "")]
    #[case("\\N", "\\\\N")]
    #[case("a\tb\r\n", "a\\tb\\r\\n")]
    fn any_text_is_one_field_of_the_copy_format(#[case] field: &str, #[case] wanted: &str) {
        let mut row = String::new();
        escape(field, &mut row);
        assert_eq!(row, wanted);
    }
}
