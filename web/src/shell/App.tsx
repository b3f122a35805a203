/** Which page: the list of projects, or one project at one step. */
import { useEffect, useState } from "react";
import { Boundary } from "../kit/boundary";
import { Confirm } from "../kit/confirm";
import { type StepId, useView } from "../kit/view";
import { Notices } from "./Notices";
import { Projects } from "./Projects";
import { STEPS } from "./steps";
import { Workplace } from "./Workplace";

function whereAmI(): { project: string | null; step: StepId | null } {
  const found = /^\/p\/([0-9a-f]{32})(?:\/([a-z_]+))?/.exec(window.location.pathname);
  const step = STEPS.find((s) => s.id === found?.[2])?.id ?? null;
  return { project: found?.[1] ?? null, step };
}

export function App() {
  const [project, setProject] = useState(whereAmI().project);
  useEffect(() => {
    const { step } = whereAmI();
    useView.getState().open(project);
    if (project && step) useView.getState().go(step);
    const back = () => setProject(whereAmI().project);
    window.addEventListener("popstate", back);
    return () => window.removeEventListener("popstate", back);
  }, [project]);
  const open = (id: string | null) => {
    window.history.pushState(null, "", id ? `/p/${id}/bring_in` : "/");
    setProject(id);
  };
  return (
    <>
      <Boundary key={project ?? ""} what="This page">
        {project ? <Workplace key={project} id={project} leave={() => open(null)} /> : <Projects open={open} />}
      </Boundary>
      <Confirm />
      <Notices />
    </>
  );
}
