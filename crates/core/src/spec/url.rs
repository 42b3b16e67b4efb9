//! Where a secret may go.

use std::net::IpAddr;

/// Whether secrets may go to this address: by TLS, or no further than this host. It has to be a
/// plain one: scheme, host, port, path.
///
/// # Errors
/// What to write instead.
pub fn may_carry_secrets(url: &str) -> Result<(), String> {
    let Some((scheme, rest)) = url.split_once("://") else {
        return Err(format!("`{url}` is no address: write https://HOST:PORT"));
    };
    let authority = rest.split(['/', '?', '#']).next().unwrap_or_default();
    // What two readers of an address may take for different hosts.
    if authority.is_empty()
        || rest.contains(['@', '\\'])
        || url.chars().any(|c| c.is_control() || c == ' ')
    {
        return Err(format!("`{url}` is no address: write https://HOST:PORT"));
    }
    let host = match authority
        .strip_prefix('[')
        .and_then(|six| six.split_once(']'))
    {
        Some((six, _)) => six,
        None => authority.split(':').next().unwrap_or_default(),
    };
    let here = host == "localhost" || host.parse().is_ok_and(|ip: IpAddr| ip.is_loopback());
    match scheme {
        "https" => Ok(()),
        "http" if here => Ok(()),
        "http" => Err(format!(
            "`{url}` would carry a secret readable for all on the way: use https"
        )),
        other => Err(format!("`{other}` is not spoken: use https")),
    }
}

#[cfg(test)]
mod tests {
    use super::may_carry_secrets;

    #[test]
    fn a_secret_goes_by_tls_or_nowhere() {
        for good in [
            "https://10.0.0.11:26780",
            "https://quay.example/a?b",
            "http://127.0.0.1:9",
            "http://[::1]:9",
            "http://localhost",
        ] {
            assert_eq!(may_carry_secrets(good), Ok(()), "{good}");
        }
        let bad = [
            "http://10.0.0.11:26780",
            "http://localhost.example",
            "http://127.0.0.1@10.0.0.11",
            "https://a\\@b",
            "ftp://127.0.0.1",
            "10.0.0.11",
            "https://",
            "https:// a",
        ];
        for bad in bad {
            assert!(may_carry_secrets(bad).is_err(), "{bad}");
        }
    }
}
