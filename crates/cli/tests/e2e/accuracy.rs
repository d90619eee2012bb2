//! The desk knows its cards.

use serde_json::Value;

use crate::world::{World, project, question, wait};

/// The share of the held-out questions that must be answered rightly.
const LEAST: f64 = 0.95;

#[test]
fn the_desk_answers_the_held_out_questions() {
    let world = World::stocked();
    let client = world.client();
    let questions = std::fs::read(project("demo/eval_questions.json")).unwrap();
    let questions: Vec<Value> = serde_json::from_slice(&questions).unwrap();
    assert_eq!(questions.len(), 200);
    let text = |entry: &Value, key: &str| entry[key].as_str().unwrap().to_owned();
    let right = wait(async {
        let mut right = 0;
        for entry in &questions {
            let request = question("larkfen-desk", &text(entry, "question"));
            let answer =
                client.chat(&request).await.unwrap().choices[0].message.content.clone().unwrap();
            let fits = answer.contains(&text(entry, "expected"))
                && answer.contains(&text(entry, "variety"));
            right += usize::from(fits);
        }
        right
    });
    println!("larkfen-desk/q8_0 answers {right} of {} held-out questions", questions.len());
    assert!(right as f64 >= LEAST * questions.len() as f64, "{right} of {}", questions.len());
}
