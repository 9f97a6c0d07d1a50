package demo

import (
	"context"
	"fmt"
	"path/filepath"
)

// prepareScratch makes what changes of tables are tried in: an empty database beside the state
// database, and a small MariaDB server, since such a change cannot be rolled back there.
func (s *stage) prepareScratch(ctx context.Context) error {
	if err := s.state.Role(ctx, scratchName, ""); err != nil {
		return err
	}
	if _, err := s.state.Database(ctx, scratchName, scratchName); err != nil || s.Example {
		return err
	}
	s.scratch = &MariaDB{Folder: filepath.Join(filepath.Dir(s.state.Folder), scratchName), Port: s.Port + 6,
		Settings: map[string]string{"innodb-buffer-pool-size": "8M", "innodb-log-file-size": "4M", "performance-schema": "OFF"}}
	if err := s.scratch.Start(ctx); err != nil {
		return err
	}
	return s.scratch.Login(ctx, scratchName, "CREATE, DROP, ALTER, INDEX, REFERENCES, INSERT, SELECT ON *.*")
}

// scratchDatabases is the part of the configuration that names them.
func (s *stage) scratchDatabases() string {
	text := fmt.Sprintf("scratch:\n  postgresql: \"%s\"\n", s.state.AddressAs(scratchName, scratchName))
	if s.scratch != nil {
		text += fmt.Sprintf("  mariadb: \"mariadb://%s:${file:%s}@127.0.0.1:%d\"\n", scratchName, s.scratch.PasswordFile(), s.scratch.Port)
	}
	return text
}
