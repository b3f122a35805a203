-- Run by the superuser in a database of ours, as often as one likes. Two roles, neither of them a superuser:
-- lantern_app owns the schema and nothing else; lantern_worker is what workers on other machines share: they read and write
-- rows but change no table.
DO $$ BEGIN
  IF NOT EXISTS (SELECT 1 FROM pg_roles WHERE rolname = 'lantern_app') THEN
    CREATE ROLE lantern_app LOGIN NOSUPERUSER NOCREATEDB NOCREATEROLE NOREPLICATION;
  END IF;
  IF NOT EXISTS (SELECT 1 FROM pg_roles WHERE rolname = 'lantern_worker') THEN
    CREATE ROLE lantern_worker NOLOGIN NOSUPERUSER NOCREATEDB NOCREATEROLE NOREPLICATION;
  END IF;
  EXECUTE format('REVOKE ALL ON DATABASE %I FROM PUBLIC', current_database());
  EXECUTE format('GRANT CONNECT, TEMPORARY ON DATABASE %I TO lantern_app, lantern_worker', current_database());
END $$;
ALTER SCHEMA public OWNER TO lantern_app;
REVOKE ALL ON SCHEMA public FROM PUBLIC;
GRANT USAGE ON SCHEMA public TO lantern_worker;

-- what an earlier version made as the superuser is handed over
DO $$ DECLARE r record; BEGIN
  FOR r IN SELECT c.oid::regclass AS name FROM pg_class c WHERE c.relnamespace = 'public'::regnamespace
      AND c.relkind IN ('r', 'p', 'v', 'm') AND c.relowner <> 'lantern_app'::regrole LOOP
    EXECUTE format('ALTER TABLE %s OWNER TO lantern_app', r.name);
  END LOOP;
  FOR r IN SELECT c.oid::regclass AS name FROM pg_class c WHERE c.relnamespace = 'public'::regnamespace AND c.relkind = 'S'
      AND c.relowner <> 'lantern_app'::regrole
      AND NOT EXISTS (SELECT 1 FROM pg_depend d WHERE d.objid = c.oid AND d.deptype IN ('a', 'i')) LOOP
    EXECUTE format('ALTER SEQUENCE %s OWNER TO lantern_app', r.name);
  END LOOP;
  FOR r IN SELECT p.oid::regprocedure AS name FROM pg_proc p WHERE p.pronamespace = 'public'::regnamespace
      AND p.proowner <> 'lantern_app'::regrole LOOP
    EXECUTE format('ALTER ROUTINE %s OWNER TO lantern_app', r.name);
  END LOOP;
  FOR r IN SELECT t.oid::regtype AS name FROM pg_type t LEFT JOIN pg_class c ON c.oid = t.typrelid
      WHERE t.typnamespace = 'public'::regnamespace AND t.typowner <> 'lantern_app'::regrole
      AND (t.typtype = 'e' OR (t.typtype = 'c' AND c.relkind = 'c')) LOOP
    EXECUTE format('ALTER TYPE %s OWNER TO lantern_app', r.name);
  END LOOP;
END $$;

GRANT SELECT, INSERT, UPDATE, DELETE ON ALL TABLES IN SCHEMA public TO lantern_worker;
GRANT USAGE, SELECT ON ALL SEQUENCES IN SCHEMA public TO lantern_worker;
ALTER DEFAULT PRIVILEGES FOR ROLE lantern_app IN SCHEMA public GRANT SELECT, INSERT, UPDATE, DELETE ON TABLES TO lantern_worker;
ALTER DEFAULT PRIVILEGES FOR ROLE lantern_app IN SCHEMA public GRANT USAGE, SELECT ON SEQUENCES TO lantern_worker;
