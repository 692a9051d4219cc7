;;; Drives `jaunty lsp' from Emacs' eglot: emacs --batch -q -l eglot.el  -*- lexical-binding: t -*-
;;; Each line that it prints is one that the test looks for; a failure ends it with an error.

(package-initialize)
(require 'cl-lib)
(require 'eglot)
(require 'flymake)

(defun ferry-wait (what is)
  "Wait until IS gives something, or fail for WHAT.
An answer that is waited for leaves the reader of this jsonrpc by a throw, and a message that came in one piece
with it lies there until there is more to read. So each round asks something, as a person who goes on would."
  (let ((until (+ (float-time) 60)) (found nil))
    (while (and (not (setq found (funcall is))) (< (float-time) until))
      (accept-process-output nil 0.05)
      (when eglot--managed-mode (ferry-hover)))
    (or found (error "Waited in vain for %s" what))))

(defun ferry-say (what text)
  (princ (format "%s: %s\n" what (replace-regexp-in-string "\n" " / " (format "%s" text)))))

(defun ferry-go (text)
  (goto-char (point-min))
  (search-forward text)
  (goto-char (match-beginning 0)))

(defun ferry-hover ()
  (eglot--signal-textDocument/didChange)
  (let ((said (jsonrpc-request (eglot--current-server-or-lose) :textDocument/hover
                               (eglot--TextDocumentPositionParams))))
    (or (plist-get (plist-get said :contents) :value) "")))

(defun ferry-act (title)
  "Carry out the action with TITLE, chosen as a person would."
  (eglot--signal-textDocument/didChange)
  (cl-letf ((last-nonmenu-event t) ; Otherwise it is a menu of a window, and there is none.
            ((symbol-function 'completing-read)
             (lambda (_prompt collection &rest _)
               (or (cl-find-if (lambda (one) (string-match-p (regexp-quote title) one))
                               (mapcar (lambda (one) (if (consp one) (car one) one)) collection))
                   (error "No action %s" title)))))
    (eglot-code-actions (point) (point) nil t)))

;; It asks before an edit of what is not visited, whatever is set.
(fset 'y-or-n-p (lambda (&rest _) t))
(setq eglot-confirm-server-initiated-edits nil
      eglot-connect-timeout 60
      eglot-sync-connect 60
      enable-local-variables nil)
(add-to-list 'eglot-server-programs (cons 'sql-mode (list (getenv "JAUNTY") "lsp")))
(find-file "statements.sql")
(sql-mode)
(apply #'eglot--connect (eglot--guess-contact))
(ferry-wait "the server" (lambda () eglot--managed-mode))

(ferry-go "p.name")
(forward-char 2)
(ferry-say "completion"
           (ferry-wait "completion"
                       (lambda ()
                         (let ((found (all-completions "" (nth 2 (eglot-completion-at-point)))))
                           (and (cl-find-if (lambda (one) (string-match-p "berths" one)) found)
                                (mapconcat #'substring-no-properties found " "))))))
(forward-char 1)
(ferry-say "hover" (ferry-hover))

(flymake-mode 1)
(ferry-say "diagnostic"
           (ferry-wait "a diagnostic"
                       (lambda () (flymake-start)
                         (let ((all (flymake-diagnostics))) (and all (flymake-diagnostic-text (car all)))))))
(ferry-go "nmae")
(ferry-act "Change to name")
(eglot--signal-textDocument/didChange)
(ferry-say "changed" (progn (goto-char (point-min)) (search-forward "select name from ports where") t))
(ferry-wait "no diagnostic" (lambda () (flymake-start) (null (flymake-diagnostics))))

(ferry-go "select p.name")
(ferry-act "Run on ferry")
(ferry-wait "a run" (lambda () (string-match-p "3 rows" (ferry-hover))))
(let ((rows (ferry-wait "rows" (lambda ()
                                 (cl-find-if (lambda (one) (string-suffix-p "rows.txt" (or (buffer-file-name one) "")))
                                             (buffer-list))))))
  (ferry-say "rows" (with-current-buffer rows (buffer-string))))

(ferry-go "with recursive")
(ferry-act "Run on ferry")
(ferry-wait "a slow run" (lambda () (string-match-p "running" (ferry-hover))))
(ferry-act "Stop what runs")
(ferry-say "stopped" (ferry-wait "an end" (lambda () (and (string-match-p "stopped" (ferry-hover)) "stopped"))))

(ferry-go "p.name")
(eglot--signal-textDocument/didChange)
(eglot-rename "quay")
(ferry-go "select quay")
(ferry-say "renamed" (buffer-substring (point) (line-end-position)))
(eglot-shutdown (eglot--current-server-or-lose))
