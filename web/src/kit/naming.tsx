/** A name that is changed in place: Enter or leaving it keeps what was typed, Escape lets it be. */
export function NameInPlace(p: {
  name: string;
  most: number;
  mono?: boolean;
  keep: (name: string) => void;
  end: () => void;
}) {
  return (
    <input
      autoFocus
      aria-label={`Name of ${p.name}`}
      defaultValue={p.name}
      maxLength={p.most}
      className={`w-full rounded border border-action bg-card px-1 ${p.mono ? "font-mono" : ""}`}
      onBlur={(e) => {
        p.end();
        const name = e.target.value.trim();
        if (name && name !== p.name) p.keep(name);
      }}
      onKeyDown={(e) => {
        e.stopPropagation();
        if (e.key === "Enter") e.currentTarget.blur();
        if (e.key === "Escape") p.end();
      }}
    />
  );
}
