import { ArrowLeft } from "lucide-react";
import { Link, useParams } from "react-router";

import type { InstallDetail } from "../api/client";
import { Digest } from "../parts/Digest";
import { Lines } from "../parts/Lines";
import { Pairs } from "../parts/Pairs";
import { Route } from "../parts/Route";
import { Section } from "../parts/Section";
import { Answered } from "../parts/States";
import { StateMark } from "../parts/StateMark";
import { When } from "../parts/Time";
import { span } from "../parts/time";
import { Cancel } from "./Cancel";
import { HowFar } from "./HowFar";
import { OpenQuestions } from "./OpenQuestions";
import { Retry } from "./Retry";
import { useInstall } from "./useInstalls";

export function InstallPage() {
  const number = Number(useParams().number);
  const install = useInstall(number);
  return (
    <div className="min-h-0 flex-1 overflow-auto pb-8">
      <Link to="/installs" className="link-hover inline-flex items-center gap-1 text-base-content/75">
        <ArrowLeft className="size-4" aria-hidden /> Installs
      </Link>
      <h1 className="mt-1 mb-4 text-lg font-semibold">Install {number}</h1>
      <Answered query={install}>{(data) => <Detail install={data} />}</Answered>
    </div>
  );
}

function Detail({ install }: { install: InstallDetail }) {
  return (
    <div className="grid gap-x-8 lg:grid-cols-[minmax(0,30rem)_minmax(0,1fr)]">
      <div className="lg:col-span-2">
        <OpenQuestions install={install} />
        {install.refused > 0 && (
          <div role="alert" className="mb-6 max-w-xl border-l-4 border-error pl-3">
            <p className="font-semibold">Its token was used from elsewhere</p>
            <p>
              Refused were requests from{" "}
              {install.refused === 1 ? "an address that is" : `${install.refused} addresses that are`} not the
              machine&apos;s. The steps below say which. Whoever has the token has seen the machine&apos;s traffic, or its
              screen.
            </p>
          </div>
        )}
        {install.differences.length > 0 && (
          <div role="alert" className="mb-6 max-w-xl border-l-4 border-warning pl-3">
            <p className="font-semibold">The host differs from what was expected:</p>
            <ul>
              {install.differences.map((one) => (
                <li key={one.what}>
                  {one.what}: {one.actual}; expected: {one.expected}
                </li>
              ))}
            </ul>
          </div>
        )}
      </div>
      <Section title="The record">
        <div className="mb-3 flex flex-wrap items-center gap-4">
          <StateMark state={install.state} />
          <Route step={install.last_step} state={install.state} />
          {install.ended_at ? (
            install.state !== "installed" && <Retry number={install.number} />
          ) : (
            <Cancel number={install.number} />
          )}
        </div>
        {install.progress && (
          <div className="mb-3">
            <HowFar progress={install.progress} wide />
          </div>
        )}
        <Pairs
          pairs={[
            [
              "Machine",
              <Link className="link" to={`/machines/${install.machine}`}>
                {install.machine}
              </Link>,
            ],
            ["Image", `${install.image} r${install.revision}${install.is_stateless ? ", from memory" : ""}`],
            ["Manifest", <Digest key="manifest" value={install.manifest_hash} />],
            [
              "Answers",
              <Link className="link" to={`/answers/${install.answers}`}>
                {install.answers} v{install.answers_version}
              </Link>,
            ],
            ["Answer file", <Digest key="answers" value={install.answer_hash} />],
            ["Armed", <span key="armed"><When at={install.armed_at} /> by {install.armed_by}</span>],
            ["Booting", <When key="booting" at={install.booting_at} />],
            ["Installing", <When key="installing" at={install.installing_at} />],
            ["Ended", <When key="ended" at={install.ended_at} />],
            ["Kernel starts", install.kernel_fetches],
            ["Subnet", install.subnet ?? "–"],
            ["Labels", install.labels.join(", ") || "–"],
            ...(install.outcome
              ? ([
                  ["Host name", install.outcome.actual.host_name ?? "–"],
                  ["Address", install.outcome.actual.address ?? "–"],
                  ["System", install.outcome.actual.os ?? "–"],
                  ["Kernel", install.outcome.actual.kernel ?? "–"],
                ] as [string, string][])
              : []),
            ...Object.entries(install.asked).map(([key, said]): [string, string] => [`Asked: ${key}`, said]),
            ...(install.reason ? [["Reason", install.reason] as [string, string]] : []),
          ]}
        />
      </Section>
      <div>
      <Lines title="What the installer wrote" label="The installer's lines" lines={install.log} />
      <Section title="What was seen">
        <ol className="space-y-1">
          {install.steps.map((step, index) => (
            <li key={index} className="grid grid-cols-[5rem_5rem_minmax(0,1fr)] gap-2">
              <span className="text-right text-base-content/70">+{span(install.armed_at, step.at)}</span>
              <span className="font-medium">{step.kind}</span>
              <span className="min-w-0 break-words text-base-content/80">{step.detail}</span>
            </li>
          ))}
        </ol>
      </Section>
      </div>
    </div>
  );
}
