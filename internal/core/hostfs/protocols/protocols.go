// Package protocols makes every way to files known to hostfs. Another protocol is a package beside it and a line here.
package protocols

import (
	_ "nestseed/internal/core/hostfs/ftp"   // FTP with TLS
	_ "nestseed/internal/core/hostfs/local" // folders of this machine
	_ "nestseed/internal/core/hostfs/sftp"  // over SSH
)
