import type { RunbookStep, RunInfo, StepStatus } from "../api/types";
import { span } from "../parts/time";
import { neutralise } from "./output";
import { countSteps, isStepTrouble, statusOf, stepWord, whenWords } from "./steps";

/** The steps of a runbook: what each does, when it runs, and its text. */
export function StepsView({ steps }: { steps: RunbookStep[] }) {
  return (
    <ol className="steps" aria-label="Steps">
      {steps.map((step, index) => (
        <li key={step.name}>
          <h3>
            <span className="muted">{index + 1}</span> {neutralise(step.name)}
          </h3>
          <p className="muted">{neutralise(whenWords(step, index === 0))}</p>
          {step.note && <p className="step-note">{neutralise(step.note)}</p>}
          {step.text && (
            <pre className="output" tabIndex={0} aria-label={`Text of step ${index + 1}`}>
              {step.shell && (
                <span className="muted">
                  read by {step.shell}
                  {"\n"}
                </span>
              )}
              {neutralise(step.text)}
            </pre>
          )}
        </li>
      ))}
    </ol>
  );
}

/** On how many hosts each step has ended, and how. */
export function StepBoard({ steps, runs }: { steps: RunbookStep[]; runs: RunInfo[] }) {
  const number = (n: number, trouble = false) => (
    <td className={`number${n === 0 ? " muted" : trouble ? " trouble" : ""}`}>{n === 0 ? "–" : n}</td>
  );
  const counts = countSteps(steps, runs);
  const anyStopped = counts.some((c) => c.stopped > 0);
  return (
    <div className="matrix-frame step-frame">
      <table className="matrix step-board" aria-label="Steps on all hosts">
        <thead>
          <tr>
            <th scope="col">Step</th>
            <th scope="col">Succeeded</th>
            <th scope="col">Failed</th>
            <th scope="col">Left out</th>
            <th scope="col">Running</th>
            {anyStopped && <th scope="col">Stopped</th>}
            <th scope="col">Not reached</th>
          </tr>
        </thead>
        <tbody>
          {counts.map((c, index) => (
            <tr key={c.name}>
              <th scope="row">
                {index + 1} {neutralise(c.name)}
                {steps[index]?.mayFail && <span className="muted"> may fail</span>}
              </th>
              {number(c.succeeded)}
              {number(c.failed, !steps[index]?.mayFail)}
              {number(c.leftOut)}
              {number(c.running)}
              {anyStopped && number(c.stopped)}
              {number(c.notReached)}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

/** What has become of each step on one host. */
export function RunSteps({ steps, reached }: { steps: RunbookStep[]; reached: StepStatus[] | null | undefined }) {
  return (
    <ol className="run-steps" aria-label="Steps on this host">
      {steps.map((step, index) => {
        const status = statusOf(reached, index);
        const said = [
          stepWord(status?.state),
          isStepTrouble(status?.state) && status?.exitStatus != null && `(${status.exitStatus})`,
          status && status.tries > 1 && `in try ${status.tries} of ${step.tries}`,
          took(status),
        ];
        return (
          <li key={step.name}>
            <span>
              {index + 1} {neutralise(step.name)}
            </span>
            <span className={isStepTrouble(status?.state) && !step.mayFail ? "trouble" : "muted"}>
              {said.filter(Boolean).join(" ")}
              {status?.reason && <span className="muted">. {neutralise(status.reason)}</span>}
            </span>
          </li>
        );
      })}
    </ol>
  );
}

function took(status: StepStatus | undefined): string {
  if (!status?.startedAt || !status.endedAt) return "";
  const milliseconds = Date.parse(status.endedAt) - Date.parse(status.startedAt);
  return `after ${milliseconds < 10_000 ? `${(milliseconds / 1000).toFixed(1)} s` : span(milliseconds)}`;
}
