//! Getting models from sources: searching them, judging an offer before it is fetched, pulling it.

mod preview;
mod pull;
mod search;

use std::sync::Arc;
use std::time::Instant;

use deft_depot::{Finder, Offer, RateLimit, Reference, Source, Store};
use deft_planning::ModelShape;
use deft_protocol::manage::{Fit, Fitting, OfferReport, SettingsRequest, SourceCheck};
use deft_protocol::{Problem, ProblemKind};
use tokio::sync::OnceCell;
use uuid::Uuid;

use crate::depot::catalogue::{Catalogue, off_thread};
use crate::depot::sources::Sources;
use crate::depot::transfers::Transfers;
use crate::fleet::Fleet;
use crate::fleet::{Policy, Target};
use crate::wire;
use crate::wire::source_problem;

/// Gets models from sources; cheap to clone.
#[derive(Clone)]
pub(crate) struct Pulling(Arc<Parts>);

/// What it works with.
pub(crate) struct Parts {
    pub(crate) sources: Sources,
    pub(crate) finder: Finder,
    pub(crate) rate_limit: RateLimit,
    pub(crate) store: Arc<Store>,
    pub(crate) catalogue: Arc<Catalogue>,
    pub(crate) transfers: Transfers,
    pub(crate) fleet: Fleet,
    /// Memory bandwidth in bytes per second; measured at the first use.
    pub(crate) memory_speed: OnceCell<f64>,
}

impl std::ops::Deref for Pulling {
    type Target = Parts;

    fn deref(&self) -> &Parts {
        &self.0
    }
}

/// A reference with the source it names, if it names one.
struct Named {
    reference: Reference,
    source: Option<Source>,
}

impl Pulling {
    pub(crate) fn new(parts: Parts) -> Self {
        Self(Arc::new(parts))
    }

    /// A reference as it was written.
    fn named(&self, text: &str) -> Result<Named, Problem> {
        let reference: Reference = text.parse().map_err(|error: deft_depot::ReferenceError| {
            Problem::new(ProblemKind::Invalid, "reference_unusable", error.to_string())
                .with_way_out("search the sources: deft depot search WORDS")
        })?;
        let source = match &reference {
            Reference::At(_) => None,
            Reference::Of { source, .. } => Some(self.sources.get(source)?),
        };
        Ok(Named { reference, source })
    }

    async fn resolve(&self, named: &Named) -> Result<Offer, Problem> {
        let problem = |error| source_problem(&error, named.source.as_ref());
        match (&named.source, &named.reference) {
            (Some(source), reference) => {
                self.finder.resolve(source, reference).await.map_err(problem)
            }
            (None, Reference::At(url)) => self.finder.at(url).map_err(problem),
            (None, Reference::Of { .. }) => unreachable!("its source was looked up"),
        }
    }

    /// Checks that a source can be reached, and counts its offers.
    pub(crate) async fn check(&self, name: &str) -> Result<SourceCheck, Problem> {
        let source = self.sources.get(name)?;
        let began = Instant::now();
        let listed = self.finder.catalogue(&source).await;
        let seconds = began.elapsed().as_secs_f64();
        let name = name.to_owned();
        Ok(match listed {
            Ok(offers) => {
                SourceCheck { name, variants: Some(offers.len()), seconds, problem: None }
            }
            Err(deft_depot::SourceError::NotListed { .. }) => {
                SourceCheck { name, variants: None, seconds, problem: None }
            }
            Err(error) => {
                let problem = Some(source_problem(&error, Some(&source)));
                SourceCheck { name, variants: None, seconds, problem }
            }
        })
    }

    /// Whether a model of such sizes fits.
    async fn fit(&self, shape: &ModelShape, request: &SettingsRequest) -> Result<Fit, Problem> {
        let settings = wire::load_settings(request, shape)?;
        let target = Target {
            template: None,
            variant: Uuid::nil(),
            number: 1,
            name: "offer/offer".parse().expect("it is a name"),
            files: Vec::new(),
            shape: shape.clone(),
            settings,
            places: Vec::new(),
            policy: Policy::default(),
        };
        let judged = self.fleet.judge(vec![target]).await?;
        let (grant, refusal) = &judged.verdicts[0];
        let fits = refusal.as_ref().map_or(Fitting::Now, fitting);
        Ok(Fit { fits, memory: grant.demand.total().0, by_size_alone: shape.layers == 0 })
    }

    /// Report of an offer; its fit is estimated from its source's description.
    async fn report(&self, source: &str, offer: &Offer, known: &Known) -> OfferReport {
        let sizes = offer.shape.clone().or_else(|| {
            let file = deft_planning::Bytes(offer.bytes()?);
            Some(ModelShape { file, context_length: 1, ..ModelShape::default() })
        });
        let fit = match sizes.filter(|_| offer.is_gguf()) {
            Some(shape) => self.fit(&shape, &SettingsRequest::default()).await.ok(),
            None => None,
        };
        let reference =
            if source.is_empty() { offer.path() } else { format!("{source}:{}", offer.path()) };
        let about = &offer.about;
        OfferReport {
            known_as: known.name_of(&reference, offer),
            reference,
            source: source.to_owned(),
            model: offer.model.clone(),
            variant: offer.variant.clone(),
            description: about.description.clone(),
            licence: about.licence.clone(),
            serves: about.serves.clone(),
            family: about.family.clone(),
            quantisation: about.quantisation.clone(),
            parameters: about.parameters,
            context_length: about.context_length,
            bytes: offer.bytes(),
            fit,
        }
    }

    async fn known(&self) -> Result<Known, Problem> {
        let store = Arc::clone(&self.store);
        let all = off_thread(move || store.variants().map_err(|error| wire::store_problem(&error)));
        Ok(Known(all.await?))
    }
}

/// What the depot already has.
struct Known(Vec<deft_depot::Manifest>);

impl Known {
    /// The variant that an offer is: by where it came from, or by the content of all its files.
    fn name_of(&self, reference: &str, offer: &Offer) -> Option<String> {
        let same_origin = |kept: &&deft_depot::Manifest| {
            kept.origin.as_ref().is_some_and(|origin| origin.reference == reference)
        };
        let same_files = |kept: &&deft_depot::Manifest| {
            offer.files.iter().all(|wanted| {
                let digest = wanted.sha256.as_ref();
                digest.is_some_and(|digest| kept.files.iter().any(|file| file.sha256 == *digest))
            })
        };
        let found = self.0.iter().find(same_origin).or_else(|| self.0.iter().find(same_files));
        found.map(|kept| kept.name.to_string())
    }
}

/// What a refused load would need, in a word.
fn fitting(refusal: &Problem) -> Fitting {
    if refusal.ways.iter().any(|way| !way.unload.is_empty() && way.settings.is_none()) {
        Fitting::AfterUnloading
    } else if refusal.ways.is_empty() {
        Fitting::Never
    } else {
        Fitting::OtherSettings
    }
}
