//! `deft calls`.

use crate::arguments::Common;
use crate::connection;
use crate::failure::Failure;
use crate::print;

pub(super) async fn run(common: &Common, count: u32) -> Result<(), Failure> {
    let calls = connection::connect(common).await?.calls(count).await?;
    if common.json {
        print::json(&calls);
        return Ok(());
    }
    if calls.is_empty() {
        print::note("no calls yet");
        return Ok(());
    }
    let rows = calls
        .iter()
        .map(|call| {
            vec![
                call.arrived_at.format("%F %T").to_string(),
                call.name.clone(),
                call.outcome.clone(),
                print::count(call.prompt_tokens.into()),
                print::count(call.answer_tokens.into()),
                call.first_token_seconds.map_or_else(String::new, print::seconds),
                print::seconds(call.total_seconds),
            ]
        })
        .collect();
    let headers = ["arrived (UTC)", "model", "ended", "prompt", "answer", "first token", "total"];
    print::line(print::table(&headers, rows, &[3, 4, 5, 6]));
    Ok(())
}
