package report

import (
	"io"

	"trimlantern/work"
)

func scanHTML(w io.Writer, s *work.Scan) error { return ScanJSON(w, s) }
