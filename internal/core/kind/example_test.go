package kind_test

import (
	"fmt"

	"nestseed/internal/core/kind"
)

func ExampleReadSettings() {
	s, err := kind.ReadSettings("php", []byte("<?php define( 'DB_NAME', 'alder' ); // ours\n$table_prefix = 'lad_';\n"), "", nil)
	if err != nil {
		panic(err)
	}
	name, _ := s.Get("DB_NAME")
	fmt.Println(name)
	s.Set("DB_NAME", "o'brien")
	fmt.Printf("%s", s.Bytes())
	// Output:
	// alder
	// <?php define( 'DB_NAME', 'o\'brien' ); // ours
	// $table_prefix = 'lad_';
}

func ExampleHash() {
	hash, err := kind.Hash("phpass", kind.Account{Password: "correct horse"})
	fmt.Println(kind.HashScheme(hash), len(hash), err)
	// Output: phpass 34 <nil>
}
