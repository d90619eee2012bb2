use super::*;

fn offer(model: &str, variant: &str) -> Offer {
    Offer {
        model: model.to_owned(),
        variant: variant.to_owned(),
        revision: None,
        about: About::default(),
        shape: None,
        files: Vec::new(),
    }
}

fn source() -> Source {
    let place = Location::Folder("/nowhere".into());
    let (name, address) = ("larkfen".to_owned(), "/nowhere".to_owned());
    Source { name, address, place, access: Access::default() }
}

#[test]
fn a_path_means_one_offer_or_says_what_it_could_mean() {
    let offers = [offer("desk", "q8_0"), offer("desk", "f16"), offer("find", "q8_0")];
    let chosen = |path: &str| choose::choose(&source(), &offers, path).map(|offer| offer.path());
    assert_eq!(chosen("desk/f16").unwrap(), "desk/f16");
    assert_eq!(chosen("find").unwrap(), "find/q8_0");
    assert_eq!(chosen("F16").unwrap(), "desk/f16");
    let several = chosen("desk").unwrap_err().to_string();
    assert_eq!(several, "`larkfen:desk` has 2 variants: desk/q8_0, desk/f16");
    let like = chosen("q8").unwrap_err().to_string();
    assert!(like.contains("did you mean `larkfen:"), "{like}");
    let like = chosen("dask/f16").unwrap_err().to_string();
    assert!(like.contains("did you mean `larkfen:desk/f16`?"), "{like}");
}

#[test]
fn names_of_sources_become_names_of_the_depot() {
    let name =
        |model: &str, variant: &str| offer(model, variant).name().map(|name| name.to_string());
    assert_eq!(name("seeds/Larkfen Desk", "Q8_0").unwrap(), "larkfen-desk/q8_0");
    assert!(name("seeds/---", "q8_0").is_err());
    assert!(name(&"a".repeat(300), "q8_0").unwrap_err().to_string().contains("at most 96"));
}

#[test]
fn files_that_would_get_in_each_others_way_are_refused_before_they_are_fetched() {
    let with = |names: &[&str]| {
        let file = |name: &&str| OfferedFile {
            role: FileRole::Weights,
            name: (*name).to_owned(),
            bytes: None,
            sha256: None,
            content: Content::Here("/nowhere".into()),
        };
        let files = names.iter().map(file).collect();
        Offer { files, ..offer("desk", "q8_0") }.checked().map(drop)
    };
    with(&["a.gguf", "config.json"]).unwrap();
    let error = |names: &[&str]| with(names).unwrap_err().to_string();
    assert_eq!(error(&["a.gguf", "a.gguf"]), "`desk/q8_0` has two files of one name: `a.gguf`");
    assert!(error(&[".deft-variant.json"]).contains("cannot be used"));
    assert!(error(&[".."]).contains("cannot be used"));
}
