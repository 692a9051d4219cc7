//! The desktop's own clipboard, where there is a desktop. Text goes there and through the terminal
//! (`terminal::copy`), since not every terminal passes it on, and a terminal may be far from a desktop.

use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, channel};
use std::time::Duration;

use arboard::Clipboard;

/// How long leaving waits until the desktop has taken the text over.
const HANDS_OVER: Duration = Duration::from_millis(300);

/// The clipboard, on a thread of its own: a desktop may be slow to answer.
#[derive(Debug, Default)]
pub struct Desktop {
    thread: Option<(Sender<String>, Receiver<()>)>,
}

impl Desktop {
    /// Puts text there. Where there is no desktop, nothing happens.
    pub fn put(&mut self, text: String) {
        let (texts, _) = self.thread.get_or_insert_with(start);
        // The thread is gone where there is no desktop.
        let _ = texts.send(text);
    }
}

impl Drop for Desktop {
    fn drop(&mut self) {
        let Some((texts, ended)) = self.thread.take() else { return };
        drop(texts);
        if ended.recv_timeout(HANDS_OVER) == Err(RecvTimeoutError::Timeout) {
            tracing::warn!("the desktop did not take the clipboard over in time");
        }
    }
}

fn start() -> (Sender<String>, Receiver<()>) {
    let (texts, inbox) = channel::<String>();
    let (ends, ended) = channel();
    let serve = move || {
        // Dropped last: says that the clipboard has been handed over.
        let _ends = ends;
        match Clipboard::new() {
            Ok(mut clipboard) => {
                for text in inbox {
                    if let Err(error) = clipboard.set_text(text) {
                        tracing::warn!(%error, "the desktop's clipboard");
                    }
                }
            }
            Err(error) => tracing::debug!(%error, "there is no desktop's clipboard"),
        }
    };
    if let Err(error) = std::thread::Builder::new().name("clipboard".into()).spawn(serve) {
        tracing::warn!(%error, "no thread for the clipboard");
    }
    (texts, ended)
}
