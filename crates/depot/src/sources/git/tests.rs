use super::*;

#[test]
fn a_pointer_is_distinguished_from_a_small_file() {
    let oid = "17435f5f2095a16db5e3ee9e152e47e5db0a5d717e6fd7c90aae8a177311462f";
    let text = format!("{POINTER}.example/spec/v1\noid sha256:{oid}\nsize 1993568\n");
    let found = pointer(text.as_bytes()).unwrap();
    assert_eq!((&found.oid[..], found.size), (oid, 1_993_568));
    for other in ["{}", "version 1\noid sha256:ab\nsize 1", "", "oid sha256:ab"] {
        assert_eq!(pointer(other.as_bytes()), None, "{other}");
    }
    assert_eq!(pointer(format!("{POINTER}\noid md5:ab\nsize 1").as_bytes()), None);
}

#[test]
fn a_host_sends_on_to_no_place_that_is_less_safe_or_on_this_machine() {
    let may = |from: &str, to: &str| may_be_sent_to(&from.parse().unwrap(), &to.parse().unwrap());
    assert!(may("https://git.example/a", "https://files.example/b"));
    assert!(!may("https://git.example/a", "http://files.example/b"), "not encrypted");
    assert!(!may("https://git.example/a", "https://127.0.0.1:8471/manage/v1/status"));
    assert!(!may("http://git.example/a", "http://localhost/b"));
    assert!(!may("http://git.example/a", "http://[::1]/b"));
    assert!(!may("http://git.example/a", "http://169.254.7.7/b"));
    assert!(!may("https://git.example/a", "file:///etc/hostname"));
    assert!(may("http://127.0.0.1:3/a", "http://127.0.0.1:4/b"), "a host of this machine may");
}

#[test]
fn a_repository_is_named_by_the_end_of_its_address() {
    assert_eq!(own_name("https://seeds.example/larkfen/desk.git"), "desk");
    assert_eq!(own_name("https://seeds.example/larkfen/desk/"), "desk");
}
