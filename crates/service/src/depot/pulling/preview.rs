//! What an offer would mean here, before a weight of it is fetched.

use deft_depot::{About, Looked, Offer, VariantName};
use deft_kernels::memory_speed;
use deft_planning::ModelShape;
use deft_protocol::manage::{
    CachePrecision, DiskForecast, ModelFacts, OfferFile, Preview, PreviewPlan, PreviewRequest,
    SettingsRequest, SpeedEstimate,
};
use deft_protocol::{Problem, ProblemKind};

use super::{Named, Pulling};
use crate::depot::catalogue::off_thread;
use crate::wire::{self, source_problem};

/// Contexts of the plans, in addition to the longest one.
const CONTEXTS: [u32; 4] = [2_048, 8_192, 32_768, 131_072];
/// Most contexts at once.
const MOST_CONTEXTS: usize = 4;

impl Pulling {
    /// Reads the headers of an offer, and previews it on this machine.
    pub(crate) async fn preview(&self, request: &PreviewRequest) -> Result<Preview, Problem> {
        let named = self.named(&request.reference)?;
        let mut offer = self.resolve(&named).await?;
        let source = named.source.as_ref();
        let name = offer.name().map_err(|error| source_problem(&error, source))?;
        let (looked, refused) = match self.finder.look(&offer).await {
            Ok(looked) => (looked, None),
            Err(error) => match source_problem(&error, source) {
                problem if problem.kind == ProblemKind::Refused => {
                    (Looked::default(), Some(problem))
                }
                problem => return Err(problem),
            },
        };
        if let Some(facts) = &looked.facts {
            offer.about = about(&offer.about, facts);
        }
        offer.shape = looked.shape;
        let (plans, speed) = match &offer.shape {
            Some(shape) => (self.plans(shape).await?, self.speed(shape).await),
            None => (Vec::new(), None),
        };
        let known = self.known().await?;
        let mut report =
            self.report(source.map_or("", |source| &source.name), &offer, &known).await;
        if source.is_none() {
            report.reference = named.reference.to_string();
        }
        report.bytes = report.bytes.or(offer.shape.as_ref().map(|shape| shape.file.0));
        Ok(Preview {
            revision: offer.revision.clone(),
            name: name.to_string(),
            files: self.files(&offer),
            facts: looked.facts,
            refused,
            notes: looked.notes,
            plans,
            speed,
            disk: self.disk(&offer, report.bytes)?,
            header_bytes: looked.read,
            offer: report,
        })
    }

    fn files(&self, offer: &Offer) -> Vec<OfferFile> {
        let file = |file: &deft_depot::OfferedFile| OfferFile {
            name: file.name.clone(),
            role: wire::role(file.role).to_owned(),
            bytes: file.bytes,
            sha256: file.sha256.map(|digest| digest.to_string()),
            here: file.sha256.is_some_and(|digest| self.store.hold(&digest).is_some()),
        };
        offer.files.iter().map(file).collect()
    }

    /// Free disk space before and after; `told` is the length of all files if the source does not announce it.
    fn disk(&self, offer: &Offer, announced: Option<u64>) -> Result<DiskForecast, Problem> {
        let missing = offer
            .files
            .iter()
            .filter(|file| file.sha256.is_none_or(|digest| self.store.hold(&digest).is_none()));
        let pull: Option<u64> = missing.map(|file| file.bytes).sum();
        let pull = pull.or(announced).unwrap_or(0);
        let free = self.store.free().map_err(|error| wire::store_problem(&error))?;
        Ok(DiskForecast { free, pull, after: free.checked_sub(pull) })
    }

    async fn plans(&self, shape: &ModelShape) -> Result<Vec<PreviewPlan>, Problem> {
        let longest = shape.context_length;
        let mut contexts: Vec<u32> =
            CONTEXTS.into_iter().filter(|&context| context < longest && !shape.encoder).collect();
        contexts.truncate(MOST_CONTEXTS - 1);
        contexts.push(longest);
        let mut plans = Vec::new();
        for context in contexts {
            for cache in [CachePrecision::F16, CachePrecision::Q8_0] {
                let request = SettingsRequest {
                    context: Some(context),
                    lanes: Some(1),
                    cache: (!shape.encoder).then_some(cache),
                    ..SettingsRequest::default()
                };
                match self.fit(shape, &request).await {
                    Ok(fit) => plans.push(PreviewPlan { context, cache, fit }),
                    // Not every model's cache comes in every precision.
                    Err(problem) if problem.kind == ProblemKind::Invalid => {}
                    Err(problem) => return Err(problem),
                }
            }
        }
        Ok(plans)
    }

    async fn speed(&self, shape: &ModelShape) -> Option<SpeedEstimate> {
        if shape.encoder || shape.file.0 == 0 {
            return None;
        }
        let measure = || off_thread(|| Ok(memory_speed()));
        let speed = *self.memory_speed.get_or_try_init(measure).await.ok()?;
        #[expect(clippy::cast_precision_loss, reason = "an estimate")]
        let size = shape.file.0 as f64;
        Some(SpeedEstimate { tokens_per_second: speed / size, memory_bytes_per_second: speed })
    }

    /// The name that a fetched offer gets.
    pub(super) fn name(
        &self,
        named: &Named,
        offer: &Offer,
        given: Option<&str>,
    ) -> Result<VariantName, Problem> {
        let own = offer.name().map_err(|error| source_problem(&error, named.source.as_ref()));
        match given {
            None => own,
            Some(text) => {
                let variant = own.map(|own| own.variant).unwrap_or_default();
                VariantName::given(text, &variant)
                    .map_err(|e| crate::depot::catalogue::name_problem(&e))
            }
        }
    }
}

/// The facts of an offer after its headers were read: they take precedence, except for what its source wrote
/// about it.
fn about(announced: &About, facts: &ModelFacts) -> About {
    About {
        description: announced.description.clone().or_else(|| facts.description.clone()),
        licence: announced.licence.clone().or_else(|| facts.licence.clone()),
        serves: facts.serves.clone(),
        family: Some(facts.family.clone()),
        quantisation: announced.quantisation.clone().or_else(|| Some(facts.quantisation.clone())),
        parameters: Some(facts.parameters),
        context_length: Some(facts.context_length),
    }
}
