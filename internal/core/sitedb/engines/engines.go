// Package engines makes every engine of databases known to sitedb. Another engine is a package beside it and a line here.
package engines

import (
	_ "nestseed/internal/core/sitedb/mysql"    // MariaDB and MySQL
	_ "nestseed/internal/core/sitedb/postgres" // PostgreSQL
	_ "nestseed/internal/core/sitedb/sqlite"   // SQLite
)
