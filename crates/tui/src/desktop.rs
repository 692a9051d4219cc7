//! The desktop's own clipboard, where there is a desktop, to write and to read. Text goes there and through the terminal
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

/// The text in the clipboard; it may take a while. An error says why there is none, and what to do instead.
pub fn text() -> Result<String, String> {
    let unread = |error: arboard::Error| match error {
        arboard::Error::ContentNotAvailable => "there is no text in the clipboard".to_owned(),
        error => {
            tracing::debug!(%error, "the desktop's clipboard");
            "there is no desktop here whose clipboard could be read; paste the rows into this form".to_owned()
        }
    };
    let text = Clipboard::new().and_then(|mut clipboard| clipboard.get_text()).map_err(unread)?;
    if text.trim().is_empty() { Err("there is no text in the clipboard".to_owned()) } else { Ok(text) }
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
