/** The report: whose it is, the pictures in it, and making it. */
import { useEffect, useState } from "react";
import { http, sent, type Picture, type Project } from "../../api/client";
import { tell, tellUndoable, useAsk, usePictures } from "../../api/queries";
import { Actions, Button, Heading, Quiet } from "../../kit";
import { Await } from "../../kit/await";
import { useView } from "../../kit/view";

export function ReportMaking({ id, project, nothing }: { id: string; project: Project; nothing: boolean }) {
  const make = useAsk(
    id,
    (kind: "pdf" | "html") =>
      sent(
        http.POST("/api/projects/{project_id}/deliveries", {
          params: { path: { project_id: id } },
          body: { kind, crop: true, coordinates: "grid", part: project.part },
        }),
      ),
    () => useView.getState().go("hand_over"),
  );
  const why = nothing ? "there is nothing to report yet" : "";
  return (
    <>
      <Heading>Report</Heading>
      <Await of={[usePictures(id)]} what="the pictures of the report">
        <Contents id={id} project={project} />
      </Await>
      <Actions>
        <Button busy={make.isPending} onClick={() => make.mutate("pdf")} why={why}>
          Make the report
        </Button>
        <Button busy={make.isPending} onClick={() => make.mutate("html")} why={why}>
          As one web page
        </Button>
      </Actions>
    </>
  );
}

function Contents({ id, project }: { id: string; project: Project }) {
  const all = usePictures(id).data!;
  const logo = all.find((p) => p.logo);
  const shown = all.filter((p) => !p.logo);
  const change = useAsk(id, (company: string) =>
    sent(
      http.PATCH("/api/projects/{project_id}", {
        params: { path: { project_id: id } },
        body: { company, version: project.version },
      }),
    ),
  );
  const add = useAsk(id, async ({ data, isLogo }: { data: Blob; isLogo: boolean }) => {
    await sent(
      http.POST("/api/projects/{project_id}/pictures", {
        params: { path: { project_id: id }, query: { logo: isLogo, caption: isLogo ? "" : words() } },
        body: data as unknown as string,
        bodySerializer: (b) => b as unknown as BodyInit,
        headers: { "Content-Type": "application/octet-stream" },
      }),
    );
    void tellUndoable(id, isLogo ? "The report has this logo." : "The picture is in the report.");
  });
  const camera = useView((s) => s.camera);
  const take = () => {
    camera
      ?.picture()
      .then((data) => add.mutate({ data, isLogo: false }))
      .catch((e: Error) => tell(e.message));
  };
  return (
    <>
      <Line label="Company" value={project.company} onCommit={(v) => change.mutate(v)} />
      <div className="flex items-center gap-2 py-0.5 text-[13.5px]">
        <span className="flex-1">Logo</span>
        {logo && <Thumb id={id} picture={logo} />}
        <label className="cursor-pointer text-[#23407a] underline dark:text-[#9db8ee]">
          {logo ? "another" : "choose a picture"}
          <input
            type="file"
            accept="image/png,image/jpeg"
            className="sr-only"
            onChange={(e) => {
              const data = e.target.files?.[0];
              if (data) add.mutate({ data, isLogo: true });
              e.target.value = "";
            }}
          />
        </label>
      </div>
      {shown.length === 0 && <Quiet>No pictures yet. What the bench shows can be put into the report.</Quiet>}
      <ul>
        {shown.map((p) => (
          <Own key={p.id} id={id} picture={p} />
        ))}
      </ul>
      <Actions>
        <Button busy={add.isPending} onClick={take} why={camera ? "" : "the bench is not there yet"}>
          Put what the bench shows into it
        </Button>
      </Actions>
    </>
  );
}

/** What the bench shows, for the caption that somebody will write better. */
const words = () => {
  const said = useView.getState().panes.join(" and ");
  return said.charAt(0).toUpperCase() + said.slice(1);
};

function Own({ id, picture: p }: { id: string; picture: Picture }) {
  const path = { project_id: id, picture_id: p.id };
  const write = useAsk(id, (caption: string) =>
    sent(
      http.PATCH("/api/projects/{project_id}/pictures/{picture_id}", {
        params: { path },
        body: { caption, version: p.version },
      }),
    ),
  );
  const out = useAsk(
    id,
    () =>
      sent(
        http.DELETE("/api/projects/{project_id}/pictures/{picture_id}", {
          params: { path, query: { version: p.version } },
        }),
      ),
    () => void tellUndoable(id, "Taken out of the report."),
  );
  return (
    <li className="flex items-center gap-2 py-1">
      <Thumb id={id} picture={p} />
      <div className="min-w-0 flex-1">
        <Line label="Caption" hidden value={p.caption} onCommit={(v) => write.mutate(v)} />
      </div>
      <Button busy={out.isPending} onClick={() => out.mutate(undefined)}>
        Take out
      </Button>
    </li>
  );
}

const Thumb = ({ id, picture: p }: { id: string; picture: Picture }) => (
  <img
    src={`/api/projects/${id}/pictures/${p.id}/file`}
    alt={p.caption || "logo"}
    className="h-10 w-16 border border-rule object-contain"
  />
);

/** A line of text that is sent once one leaves it or presses Enter. */
function Line(p: { label: string; value: string; hidden?: boolean; onCommit: (value: string) => void }) {
  const [text, setText] = useState(p.value);
  useEffect(() => setText(p.value), [p.value]);
  const commit = () => text.trim() !== p.value && p.onCommit(text.trim());
  return (
    <label className="flex items-center gap-2 py-0.5 text-[13.5px]">
      <span className={p.hidden ? "sr-only" : ""}>{p.label}</span>
      <input
        value={text}
        maxLength={200}
        autoComplete="off"
        onChange={(e) => setText(e.target.value)}
        onBlur={commit}
        onKeyDown={(e) => e.key === "Enter" && e.currentTarget.blur()}
        className="min-w-0 flex-1 rounded border border-rule bg-card px-1.5 py-0.5 text-[13px]"
      />
    </label>
  );
}
