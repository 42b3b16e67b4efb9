//! What a client's library takes to connect, in the form of each: libpq (manual, section 34.1) and
//! what is built on it, and the drivers that have words of their own.
//!
//! Timeouts are such that a client notices within seconds that nobody answers, and tries the next
//! address; an answered connection is never cut by them.

use super::config::connection;
use crate::driver::{Reach, Target};

/// Each client with its string.
pub fn strings(to: &[Target], reach: Reach) -> [(&'static str, String); 5] {
    let list: Vec<String> = to.iter().map(ToString::to_string).collect();
    let list = list.join(",");
    let libpq = format!(
        "{} dbname=DATABASE user=USER connect_timeout=3 keepalives_idle=2 keepalives_interval=1 keepalives_count=3 \
         tcp_user_timeout=5000",
        connection(to, reach)
    );
    let [jdbc, uri, npgsql] = match reach {
        Reach::Through => [""; 3],
        Reach::Primary => [
            "&targetServerType=primary",
            "&target_session_attrs=read-write",
            ";Target Session Attributes=primary",
        ],
        Reach::Reader => [
            "&targetServerType=preferSecondary",
            "&target_session_attrs=prefer-standby",
            ";Target Session Attributes=prefer-standby",
        ],
    };
    [
        ("psql", format!("psql \"{libpq}\"")),
        (
            "jdbc",
            format!(
                "jdbc:postgresql://{list}/DATABASE?user=USER&connectTimeout=3&loginTimeout=5&tcpKeepAlive=true{jdbc}"
            ),
        ),
        ("python", format!("psycopg.connect(\"{libpq}\")")),
        (
            "go",
            format!("postgres://USER@{list}/DATABASE?connect_timeout=3{uri}"),
        ),
        (
            "dotnet",
            format!(
                "Host={list};Database=DATABASE;Username=USER;Timeout=3;Keepalive=2;Tcp Keepalive=true{npgsql}"
            ),
        ),
    ]
}

#[cfg(test)]
mod tests {
    use super::{Reach, Target, strings};
    use std::net::SocketAddr;

    #[test]
    fn each_client_gets_both_addresses_and_the_word_for_whom_it_wants() {
        let to = ["10.0.0.1:26900", "[fd00::2]:26900"]
            .map(|a| Target::from(a.parse::<SocketAddr>().unwrap()));
        let words = [
            (Reach::Primary, ["read-write", "primary"]),
            (Reach::Reader, ["prefer-standby", "preferSecondary"]),
        ];
        for (reach, words) in words {
            for (client, text) in strings(&to, reach) {
                assert!(
                    text.contains("10.0.0.1") && text.contains("fd00::2"),
                    "{client}"
                );
                let says = words.iter().any(|word| text.contains(word));
                assert!(says, "{client}: {text}");
            }
        }
    }
}
