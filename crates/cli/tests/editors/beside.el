;;; Emacs beside `jaunty --pane', with nothing but eglot: it asks what is highlighted at each rest of the cursor, which
;;; the pane follows.  -*- lexical-binding: t -*-

(package-initialize)
(require 'eglot)
(setq inhibit-startup-screen t
      enable-local-variables nil
      native-comp-async-report-warnings-errors nil
      eldoc-idle-delay 0.1)
(add-to-list 'eglot-server-programs (cons 'sql-mode (list (getenv "JAUNTY") "lsp")))
(add-hook 'sql-mode-hook #'eglot-ensure)
