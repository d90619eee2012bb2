//! What sources offer, and whether it fits here.

use deft_depot::Offer;
use deft_protocol::Problem;
use deft_protocol::manage::{SearchReport, SourceProblem};
use futures_util::future::join_all;
use std::time::Duration;

use super::Pulling;
use crate::wire::source_problem;

/// Longest wait for a source; then it is reported as silent.
const LONGEST: Duration = Duration::from_secs(30);

impl Pulling {
    /// Offers that have all the words, of one source or of all that list what they have.
    pub(crate) async fn search(
        &self,
        words: &[String],
        only: Option<&str>,
    ) -> Result<SearchReport, Problem> {
        if let Some(name) = only {
            self.sources.get(name)?;
        }
        let wanted = self.sources.all().into_iter();
        let wanted = wanted.filter(|(name, _)| only.is_none_or(|only| only == name));
        let known = self.known().await?;
        let asked = wanted.map(|(name, source)| async move {
            let listed = async {
                let source = source?;
                let listed = tokio::time::timeout(LONGEST, self.finder.catalogue(&source)).await;
                match listed {
                    // It is asked by name only.
                    Ok(Err(deft_depot::SourceError::NotListed { .. })) if only.is_none() => {
                        Ok(Vec::new())
                    }
                    Ok(listed) => listed.map_err(|error| source_problem(&error, Some(&source))),
                    Err(_) => Err(silent(&name)),
                }
            };
            (name.clone(), listed.await)
        });
        let mut report = SearchReport::default();
        for (name, listed) in join_all(asked).await {
            match listed {
                Err(problem) => report.problems.push(SourceProblem { source: name, problem }),
                Ok(offers) => {
                    for offer in offers.iter().filter(|offer| has_all(offer, words)) {
                        report.offers.push(self.report(&name, offer, &known).await);
                    }
                }
            }
        }
        report.offers.sort_by(|a, b| a.reference.cmp(&b.reference));
        Ok(report)
    }
}

fn silent(name: &str) -> Problem {
    let detail = format!("`{name}` did not answer within {} s", LONGEST.as_secs());
    Problem::new(deft_protocol::ProblemKind::Busy, "source_silent", detail)
}

fn has_all(offer: &Offer, words: &[String]) -> bool {
    let about = &offer.about;
    let texts = [about.description.as_ref(), about.family.as_ref(), about.quantisation.as_ref()];
    let mut text = offer.path();
    for part in texts.into_iter().flatten().chain(&about.serves) {
        text.push(' ');
        text.push_str(part);
    }
    let text = text.to_lowercase();
    words.iter().all(|word| text.contains(&word.to_lowercase()))
}
