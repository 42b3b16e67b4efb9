//! The lines in which two texts differ, as the longest common subsequence leaves them (Hunt and
//! McIlroy, 1976).

/// Lines around a difference that say where it is.
const AROUND: usize = 2;
/// Of two middles that have more lines together than this nothing is compared: one replaces the
/// other.
const MOST: usize = 4_000;

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Side {
    Both,
    Old,
    New,
}

/// `-` before what goes, `+` before what comes, with a few lines around; empty where nothing does.
pub fn lines(old: &str, new: &str) -> String {
    let (a, b): (Vec<&str>, Vec<&str>) = (old.lines().collect(), new.lines().collect());
    let all = compared(&a, &b);
    let near = |at: usize| {
        let from = at.saturating_sub(AROUND);
        let until = (at + AROUND + 1).min(all.len());
        all[from..until].iter().any(|(side, _)| *side != Side::Both)
    };
    let (mut text, mut left_out) = (String::new(), false);
    for (at, (side, line)) in all.iter().enumerate() {
        if !near(at) {
            left_out = true;
            continue;
        }
        if left_out && !text.is_empty() {
            text.push_str("  ...\n");
        }
        left_out = false;
        let mark = match side {
            Side::Both => ' ',
            Side::Old => '-',
            Side::New => '+',
        };
        text.push_str(&format!("{mark} {line}\n"));
    }
    text
}

fn compared<'t>(a: &[&'t str], b: &[&'t str]) -> Vec<(Side, &'t str)> {
    let same = |(x, y): &(&&str, &&str)| x == y;
    let head = a.iter().zip(b).take_while(same).count();
    let rest = a.len().min(b.len()) - head;
    let ends = a.iter().rev().zip(b.iter().rev());
    let tail = ends.take(rest).take_while(same).count();
    let (ma, mb) = (&a[head..a.len() - tail], &b[head..b.len() - tail]);
    let both = |lines: &[&'t str]| lines.iter().map(|l| (Side::Both, *l)).collect::<Vec<_>>();
    let mut all = both(&a[..head]);
    if ma.len() + mb.len() > MOST {
        all.extend(ma.iter().map(|l| (Side::Old, *l)));
        all.extend(mb.iter().map(|l| (Side::New, *l)));
    } else {
        all.extend(middle(ma, mb));
    }
    all.extend(both(&a[a.len() - tail..]));
    all
}

fn middle<'t>(a: &[&'t str], b: &[&'t str]) -> Vec<(Side, &'t str)> {
    // How many lines the rests from (i, j) on have in common.
    let mut common = vec![vec![0u32; b.len() + 1]; a.len() + 1];
    for i in (0..a.len()).rev() {
        for j in (0..b.len()).rev() {
            common[i][j] = if a[i] == b[j] {
                common[i + 1][j + 1] + 1
            } else {
                common[i + 1][j].max(common[i][j + 1])
            };
        }
    }
    let (mut i, mut j, mut all) = (0, 0, Vec::new());
    while i < a.len() || j < b.len() {
        if i < a.len() && j < b.len() && a[i] == b[j] {
            all.push((Side::Both, a[i]));
            (i, j) = (i + 1, j + 1);
        } else if i < a.len() && (j == b.len() || common[i + 1][j] >= common[i][j + 1]) {
            all.push((Side::Old, a[i]));
            i += 1;
        } else {
            all.push((Side::New, b[j]));
            j += 1;
        }
    }
    all
}

#[cfg(test)]
mod tests {
    use super::lines;

    #[test]
    fn what_differs_is_shown_with_what_is_around_it() {
        let old = "a\nb\nc\nd\ne\nf\ng\nh\ni\n";
        let new = "a\nb\nc\nD\ne\nf\ng\nh\nh2\ni\n";
        let shown = "  b\n  c\n- d\n+ D\n  e\n  f\n  g\n  h\n+ h2\n  i\n";
        assert_eq!(lines(old, new), shown);
        assert_eq!(lines(old, old), "");
        assert_eq!(lines("", "x\n"), "+ x\n");
    }
}
