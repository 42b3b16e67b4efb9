//! A server's list of clients (manual, section 21.1): as the spec has it, and as somebody else kept it
//! on a server that is to be adopted. Both are compared in one form, line by line.

use std::net::IpAddr;

/// Where the spec has no list.
pub(super) const USUAL: &str = "host all postgres all reject\nhost all all all scram-sha-256\n";

/// Each line that lets somebody in or keeps them out, in one form: fields with one space between them,
/// networks with the length of their mask, options in order.
pub(super) fn lines(text: &str) -> Vec<String> {
    let joined = text.replace("\\\n", " ");
    let lines = joined.lines().map(fields);
    lines
        .filter(|fields| !fields.is_empty())
        .map(one_form)
        .collect()
}

/// The same of what `pg_hba_file_rules` says: type, databases, users, address, mask, method, options.
pub(super) fn of_view(fields: &[&str]) -> String {
    let [kind, databases, users, address, mask, method, options] = fields else {
        return fields.join(" ");
    };
    let parts = [*kind, *databases, *users, *address, *mask, *method];
    let parts = parts.into_iter().filter(|part| !part.is_empty());
    let options = options.split(' ').filter(|option| !option.is_empty());
    one_form(parts.chain(options).map(String::from).collect())
}

/// What one list has and the other has not, and whether only the order is another.
pub(super) fn differences(runs: &[String], spec: &[String]) -> Vec<String> {
    let (mut left, mut all) = (spec.to_vec(), Vec::new());
    for line in runs {
        match left.iter().position(|other| other == line) {
            Some(at) => drop(left.remove(at)),
            None => all.push(format!("it lacks `{line}`")),
        }
    }
    all.extend(
        left.iter()
            .map(|line| format!("`{line}` is not on the server's")),
    );
    if all.is_empty() && runs != spec {
        all.push("its lines are in another order, and the first that fits counts".into());
    }
    all
}

/// Whether a line asks for a client's certificate.
pub(super) fn by_certificate(line: &str) -> bool {
    let mut words = line.split(' ');
    words.any(|word| word == "cert" || (word.starts_with("clientcert=") && word != "clientcert=no"))
}

/// A field ends at a space, but for one after a comma or within quotes; a comment ends the line.
fn fields(line: &str) -> Vec<String> {
    let (mut all, mut field, mut quoted) = (Vec::new(), String::new(), false);
    for c in line.chars() {
        match c {
            '"' => quoted = !quoted,
            '#' if !quoted => break,
            c if c.is_whitespace() && !quoted => {
                if !field.is_empty() && !field.ends_with(',') {
                    all.push(std::mem::take(&mut field));
                }
            }
            c => field.push(c),
        }
    }
    all.extend(Some(field).filter(|field| !field.is_empty()));
    all
}

fn one_form(mut fields: Vec<String>) -> String {
    let is_local = fields.first().is_some_and(|kind| kind == "local");
    if !is_local && fields.len() > 3 {
        let address: Option<IpAddr> = fields[3].parse().ok();
        let mask: Option<IpAddr> = fields.get(4).and_then(|mask| mask.parse().ok());
        if let (Some(address), Some(mask)) = (address, mask) {
            fields[3] = format!("{address}/{}", length(mask));
            fields.remove(4);
        }
        if let Some((address, length)) = fields[3].split_once('/')
            && let Ok(address) = address.parse::<IpAddr>()
        {
            fields[3] = format!("{address}/{length}");
        }
    }
    let at = if is_local { 3 } else { 4 };
    // At a socket both names mean that the server asks the kernel.
    if is_local && fields.get(at).is_some_and(|method| method == "ident") {
        fields[at] = "peer".into();
    }
    let is_cert = fields.get(at).is_some_and(|method| method == "cert");
    let from = fields.len().min(at + 1);
    let mut options = fields.split_off(from);
    // The server adds these where a line says nothing.
    options.retain(|option| !(is_cert && option.starts_with("clientcert=")));
    options.retain(|option| option != "ldapscope=2");
    options.sort();
    fields.extend(options);
    fields.join(" ")
}

fn length(mask: IpAddr) -> u32 {
    match mask {
        IpAddr::V4(mask) => u32::from(mask).leading_ones(),
        IpAddr::V6(mask) => u128::from(mask).leading_ones(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// By certificate, by a directory, by the socket, kept out, for one database, from one network, and
    /// the same line twice: as a file has them and as the server says them.
    #[test]
    fn a_line_of_the_file_is_the_line_that_the_server_says() {
        let file = "# ours\nhostssl all clerk 10.30.0.0/24 cert map=quay\n\
                    host fares \"all\", mate 10.0.0.0 255.0.0.0 ldap ldapserver=d1 ldapbasedn=\"dc=ferries, dc=example\"\n\
                    local all all ident\nhost all gull 192.0.2.7/32 reject\nhost \\\n all all ::1/128 scram-sha-256\n\
                    host all all samenet md5\nhost all all samenet md5 # twice\n";
        let says: [[&str; 7]; 7] = [
            [
                "hostssl",
                "all",
                "clerk",
                "10.30.0.0",
                "255.255.255.0",
                "cert",
                "clientcert=verify-full map=quay",
            ],
            [
                "host",
                "fares",
                "all,mate",
                "10.0.0.0",
                "255.0.0.0",
                "ldap",
                "ldapbasedn=dc=ferries, dc=example ldapserver=d1",
            ],
            ["local", "all", "all", "", "", "peer", ""],
            [
                "host",
                "all",
                "gull",
                "192.0.2.7",
                "255.255.255.255",
                "reject",
                "",
            ],
            [
                "host",
                "all",
                "all",
                "::1",
                "ffff:ffff:ffff:ffff:ffff:ffff:ffff:ffff",
                "scram-sha-256",
                "",
            ],
            ["host", "all", "all", "samenet", "", "md5", ""],
            ["host", "all", "all", "samenet", "", "md5", ""],
        ];
        let says: Vec<String> = says.iter().map(|fields| of_view(fields)).collect();
        let file = lines(file);
        for (line, said) in file.iter().zip(&says) {
            // Options with spaces are told apart by nothing in either form, and are compared as words.
            let words = |text: &str| {
                let mut words: Vec<String> = text.split(' ').map(String::from).collect();
                words.sort();
                words
            };
            assert_eq!(words(line), words(said));
        }
        assert_eq!(file.len(), says.len());
        assert!(by_certificate(&file[0]) && !by_certificate(&file[1]));
        assert!(by_certificate(
            "hostssl all all all scram-sha-256 clientcert=verify-ca"
        ));
    }

    #[test]
    fn differences_are_named_line_by_line() {
        let runs = lines("host a all all md5\nhost b all all reject\nhost b all all reject\n");
        assert!(differences(&runs, &runs).is_empty());
        let spec = lines("host b all all reject\nhost c all all trust\n");
        let all = differences(&runs, &spec);
        assert_eq!(
            all,
            [
                "it lacks `host a all all md5`",
                "it lacks `host b all all reject`",
                "`host c all all trust` is not on the server's"
            ]
        );
        let mut turned = runs.clone();
        turned.reverse();
        assert_eq!(differences(&runs, &turned).len(), 1, "the order counts");
    }
}
