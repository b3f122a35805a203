/** A file that somebody chooses: hidden, opened by whatever button stands for it. */
import type { RefObject } from "react";

export function TakeFile(p: {
  input: RefObject<HTMLInputElement | null>;
  label: string;
  accept: string;
  take: (file: File) => void;
}) {
  return (
    <input
      ref={p.input}
      type="file"
      accept={p.accept}
      hidden
      aria-label={p.label}
      onChange={(e) => {
        if (e.target.files?.[0]) p.take(e.target.files[0]);
        e.target.value = "";
      }}
    />
  );
}
