//! The values of parameters: asked for one after the other, and remembered for the buffer.

use jaunty_core::run::Job;
use jaunty_language::statement::parameters::{self, ParameterValue};

use super::overlay::prompt::Asked;
use super::{App, Overlay, Prompt};

/// Statements that wait for the values of their parameters.
#[derive(Debug)]
pub(super) struct Wanting {
    jobs: Vec<Job>,
    /// The parameters of each.
    of_jobs: Vec<Vec<String>>,
    /// The parameters that are still asked for, the next one last.
    names: Vec<String>,
    given: Vec<parameters::Value>,
}

impl App {
    /// Asks for the values of the parameters that each job has and that are not known yet, one after the other; runs what
    /// has none at once.
    pub(super) fn ask_for_values(&mut self, jobs: Vec<Job>, mut of_jobs: Vec<Vec<String>>) {
        for (job, names) in jobs.iter().zip(&mut of_jobs) {
            names.retain(|name| !job.values.iter().any(|(known, _)| known == name));
        }
        let mut names: Vec<String> = Vec::new();
        for name in of_jobs.iter().flatten() {
            if !names.contains(name) {
                names.push(name.clone());
            }
        }
        names.reverse();
        if names.is_empty() || !self.connection.has_worker() {
            return self.order(jobs);
        }
        self.wanting = Some(Wanting { jobs, of_jobs, names, given: Vec::new() });
        self.ask_for_value();
    }

    pub(super) fn ask_for_value(&mut self) {
        let Some(wanting) = &self.wanting else { return };
        let Some(name) = wanting.names.last() else { return };
        let title = format!("value of {name} · null, true, a number, or text; 'quotes' keep it text");
        let known = self.values.get(&self.buffer.path).and_then(|values| values.get(name));
        let known = known.map_or("", String::as_str);
        self.overlay = Some(Overlay::Prompt(Prompt::with(title, Asked::Value, known)));
    }

    pub(super) fn give_value(&mut self, text: &str) {
        let Some(wanting) = &mut self.wanting else { return };
        let Some(name) = wanting.names.pop() else { return };
        self.values.entry(self.buffer.path.clone()).or_default().insert(name.clone(), text.to_owned());
        wanting.given.push((name, ParameterValue::read(text)));
        if !wanting.names.is_empty() {
            return self.ask_for_value();
        }
        let Some(Wanting { mut jobs, of_jobs, given, .. }) = self.wanting.take() else { return };
        for (job, names) in jobs.iter_mut().zip(of_jobs) {
            job.values.extend(given.iter().filter(|(name, _)| names.contains(name)).cloned());
        }
        self.order(jobs);
    }
}
