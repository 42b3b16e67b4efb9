//! Whether a host that joins has the secret of its invitation. Each daemon looks for itself, the one
//! that is asked and the one that decides: neither takes the other's word.

use karst_api::invitation::{Joins, Proof};
use karst_core::request::Request;

/// Whether a request to join has a proof that is for its own keys, and of the digest that it names.
/// Other requests have nothing to prove here.
pub fn is_proven(cluster: &str, request: &Request) -> bool {
    let Request::Join {
        invitation,
        node,
        digest,
        key,
        proof,
        ..
    } = request
    else {
        return true;
    };
    let joins = Joins {
        cluster,
        invitation: invitation.0,
        node: node.as_str(),
        key,
        server_key: &proof.server_key,
    };
    let proof = Proof {
        public: proof.public.clone(),
        signature: proof.signature.clone(),
    };
    proof.digest() == *digest && proof.holds(joins)
}

#[cfg(test)]
mod tests {
    use super::*;
    use karst_core::OperationId;
    use karst_core::request::JoinProof;

    /// A node that passed a join on could have put its own key in.
    #[test]
    fn a_join_is_for_the_keys_that_were_signed() {
        let secret = "07".repeat(32);
        let proof = |key: &str| {
            let joins = Joins {
                cluster: "skerry",
                invitation: 7,
                node: "uvala",
                key,
                server_key: "servers",
            };
            Proof::of(&secret, joins).unwrap()
        };
        let asks = |key: &str, proof: &Proof| Request::Join {
            invitation: OperationId(7),
            node: "uvala".into(),
            digest: proof.digest(),
            key: key.into(),
            at: 1,
            proof: JoinProof {
                public: proof.public.clone(),
                signature: proof.signature.clone(),
                server_key: "servers".into(),
            },
        };
        let honest = proof("uvala's");
        assert!(is_proven("skerry", &asks("uvala's", &honest)));
        assert!(!is_proven("skerry", &asks("ponor's", &honest)));
        assert!(!is_proven("karst", &asks("uvala's", &honest)));
        let mut other = asks("uvala's", &honest);
        if let Request::Join { digest, .. } = &mut other {
            *digest = "of another invitation".into();
        }
        assert!(!is_proven("skerry", &other));
    }
}
