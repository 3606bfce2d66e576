//! Records in MariaDB: migrations, sealed keys, group commits.
