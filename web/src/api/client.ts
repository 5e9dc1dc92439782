/**
 * The one client of the API: typed calls, queries with their keys, and the event stream that keeps them
 * fresh.
 */

import { QueryClient, useMutation, useQuery } from "@tanstack/vue-query";
import createClient from "openapi-fetch";
import { computed, onScopeDispose, ref, toValue, type MaybeRefOrGetter } from "vue";
import type { components, paths } from "./schema.gen";

type Schemas = components["schemas"];
// A form holds its wish while it is filled in, so what it sends may lack what its kind wants: the server
// says so, field by field.
type Wish = paths["/api/changes/preview"]["post"]["requestBody"]["content"]["application/json"];
type Deed = paths["/api/changes"]["post"]["requestBody"]["content"]["application/json"];
export type Barn = Schemas["BarnOut"];
export type Room = Schemas["RoomOut"];
export type Node = Schemas["NodeOut"];
export type Disk = Schemas["DiskOut"];
export type Measured = Schemas["MeasuredOut"];
export type PolicyWish = Schemas["SavePolicyParams"];
export type Heat = Schemas["HeatOut"];
export type Pool = Schemas["PoolOut"];
export type Volume = Schemas["VolumeOut"];
export type VolumePage = Schemas["VolumePage"];
export type Link = Schemas["Link"];
export type Change = Schemas["ChangeOut"];
export type ChangePage = Schemas["ChangePage"];
export type Preview = Schemas["Preview"];
export type Figure = Schemas["Figure"];
export type BenchRow = Schemas["BenchRowOut"];
export type Policy = Schemas["PolicyOut"];
export type PoolAnswer = Schemas["PoolAnswerRow"];
export type Ledger = Schemas["PrintedLedger"];
export type Lamp = Schemas["Lamp"];
export type Problem = Schemas["Problem"];
export type Yard = Schemas["YardOut"];
export type Lever = Schemas["LeverIn"];
export type Machines = Schemas["MachinesOut"];
export type NodeFacts = Schemas["NodeFacts"];
export type DiskFacts = Schemas["DiskFacts"];
export type Outcome = Schemas["OutcomeOut"];
export type ClusterPage = Schemas["ClusterPage"];
export type Stage = Schemas["StageOut"];
export type CheckRow = Schemas["CheckRow"];
export type PoolPage = Schemas["PoolPage"];
export type RoleRow = Schemas["RoleRow"];
export type UsableRow = Schemas["UsableOut"];
export type Repair = components["schemas"]["RepairOut"];
export type SizingVariant = Schemas["Variant"];
export type SizingPage = Schemas["SizingPage"];
export type LevelRow = Schemas["LevelRow"];
export type Host = Schemas["HostOut"];
export type HostPage = Schemas["HostPage"];
export type Lane = Schemas["LaneOut"];
export type Samples = Schemas["SamplesOut"];
export type Consumers = Schemas["ConsumersOut"];
export type Claim = Schemas["ClaimOut"];
export type ClaimPage = Schemas["ClaimPage"];
export type Life = Schemas["Life"];
export type Grant = Schemas["GrantOut"];
export type StorageClass = Schemas["ClassOut"];
export type Thread = Schemas["ThreadOut"];
export type Would = Schemas["ManifestsOut"];

export type WatchRule = Schemas["WatchRuleIn"];
export type Rule = Schemas["WatchRuleOut"];
export type Trial = Schemas["TrialOut"];
export type Unit = Schemas["Unit"];
export type Incident = Schemas["IncidentOut"];
export type AlertFacts = Schemas["AlertOut"];
export type Message = Schemas["MessageOut"];
export type Route = Schemas["RouteOut"];

/** A refusal of the API, in its own words. */
export class Refused extends Error {
  constructor(readonly problem: Problem) {
    super(problem.detail);
  }
}

const api = createClient<paths>({ baseUrl: "/" });

async function answered<T>(call: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let result;
  try {
    result = await call;
  } catch {
    throw new Refused({
      type: "about:blank",
      title: "Out of reach",
      status: 0,
      detail: "Fold Barn does not answer.",
      about: null,
      next_step: "It is tried again by itself.",
      preview: null,
    });
  }
  if (result.response.ok) return result.data as T;
  const problem = result.error as Partial<Problem> | undefined;
  throw new Refused({
    type: "about:blank",
    title: problem?.title ?? "Out of reach",
    status: result.response.status,
    detail: problem?.detail ?? `Fold Barn answers with error ${result.response.status}.`,
    about: problem?.about ?? null,
    next_step: problem?.next_step ?? null,
    preview: problem?.preview ?? null,
  });
}

export const queries = new QueryClient({
  defaultOptions: {
    queries: {
      retry: (failures, error) =>
        failures < 2 &&
        !(error instanceof Refused && error.problem.status >= 400 && error.problem.status < 500),
      retryDelay: 700,
      staleTime: Infinity,
    },
  },
});

export const useBarn = () => useQuery({ queryKey: ["barn"], queryFn: () => answered(api.GET("/api/barn")) });
export const useMachines = () =>
  useQuery({
    queryKey: ["site", "machines"],
    queryFn: () => answered(api.GET("/api/machines")),
    placeholderData: (before) => before,
  });
export const useCluster = () =>
  useQuery({
    queryKey: ["site", "cluster"],
    queryFn: () => answered(api.GET("/api/cluster")),
    placeholderData: (before) => before,
  });
export const useText = () =>
  useQuery({
    queryKey: ["site", "text"],
    queryFn: () => answered(api.GET("/api/text")),
    placeholderData: (before) => before,
  });
export const takeFiles = (files: { name: string; text: string }[]) =>
  answered(api.POST("/api/intake/files", { body: { files } }));
/** What a cluster of these members could be made of. */
export const useProposal = (wish: MaybeRefOrGetter<{ members: string[]; witness: string }>) =>
  useQuery({
    queryKey: ["site", "proposal", computed(() => toValue(wish))],
    queryFn: () => answered(api.GET("/api/cluster/proposal", { params: { query: toValue(wish) } })),
    enabled: computed(() => toValue(wish).members.length > 0),
    placeholderData: (before) => before,
  });
export const askWitness = (url: string) => answered(api.POST("/api/witness", { body: { url } }));
export const useReadBmc = () =>
  useMutation({ mutationFn: (body: Schemas["BmcIn"]) => answered(api.POST("/api/intake/bmc", { body })) });
export const useTestPorts = () => useMutation({ mutationFn: () => answered(api.POST("/api/cluster/ports")) });
export const useTryPassphrase = () =>
  useMutation({
    mutationFn: (passphrase: string) =>
      answered(api.POST("/api/cluster/passphrase", { body: { passphrase } })),
  });
export const useLight = () =>
  useMutation({
    mutationFn: ({ name, on }: { name: string; on: boolean }) =>
      answered(api.PUT("/api/disks/{name}/light", { params: { path: { name } }, body: { on } })),
  });
/** What a wish begins with, and what there is to choose from. */
export const useDefaults = () =>
  useQuery({ queryKey: ["defaults"], queryFn: () => answered(api.GET("/api/changes/defaults")) });
export const useChanges = () =>
  useQuery({ queryKey: ["changes"], queryFn: () => answered(api.GET("/api/changes")) });
/** What was altered besides changes. */
export const useRecords = () =>
  useQuery({ queryKey: ["changes", "records"], queryFn: () => answered(api.GET("/api/records")) });
export const useWork = (enabled: MaybeRefOrGetter<boolean>) =>
  useQuery({
    queryKey: ["work"],
    queryFn: () => answered(api.GET("/api/work")),
    enabled: computed(() => toValue(enabled)),
  });
export const useYard = (enabled: MaybeRefOrGetter<boolean>) =>
  useQuery({
    queryKey: ["yard"],
    queryFn: () => answered(api.GET("/api/yard")),
    enabled: computed(() => toValue(enabled)),
  });
/** What is asked of the list of volumes; see Asked of the API. */
export type AskedVolumes = NonNullable<paths["/api/volumes"]["get"]["parameters"]["query"]>;
const volumesAsked = (asked: AskedVolumes) => answered(api.GET("/api/volumes", { params: { query: asked } }));
export const useVolumes = (asked: MaybeRefOrGetter<AskedVolumes>) =>
  useQuery({
    queryKey: ["site", "volumes", computed(() => toValue(asked))],
    queryFn: () => volumesAsked(toValue(asked)),
    placeholderData: (before) => before,
  });
/** Names of all volumes that are asked for, up to a most. */
export async function volumeNames(asked: AskedVolumes, most: number): Promise<string[]> {
  const names: string[] = [];
  for (let page = 1, pages = 1; page <= pages && names.length < most; page += 1) {
    const found = await volumesAsked({ ...asked, page, per: 500 });
    names.push(...found.volumes.map((v) => v.name));
    pages = found.pages;
  }
  return names.slice(0, most);
}
export const useLineage = (link: MaybeRefOrGetter<Link>, name: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ["site", "lineage", computed(() => [toValue(link), toValue(name)])],
    queryFn: () =>
      answered(
        api.GET("/api/lineage/{link}/{name}", {
          params: { path: { link: toValue(link), name: toValue(name) } },
        }),
      ),
    placeholderData: (before) => (before?.name === toValue(name) ? before : undefined),
  });
export const useVolume = (name: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ["site", "volume", computed(() => toValue(name))],
    queryFn: () => answered(api.GET("/api/volumes/{name}", { params: { path: { name: toValue(name) } } })),
    placeholderData: (before) => (before?.name === toValue(name) ? before : undefined),
    enabled: computed(() => Boolean(toValue(name))),
  });
/** The hosts that a volume is attached to, and its way to each. */
export const useAttachments = (name: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ["site", "attachments", computed(() => toValue(name))],
    queryFn: () =>
      answered(api.GET("/api/volumes/{name}/attachments", { params: { path: { name: toValue(name) } } })),
    enabled: computed(() => Boolean(toValue(name))),
    placeholderData: (before) => before,
  });
/** Orchestrators, what their namespaces were granted, and classes. */
export const useConsumers = () =>
  useQuery({
    queryKey: ["site", "consumers"],
    queryFn: () => answered(api.GET("/api/consumers")),
    placeholderData: (before) => before,
  });
export type AskedClaims = NonNullable<paths["/api/claims"]["get"]["parameters"]["query"]>;
export const useClaims = (asked: MaybeRefOrGetter<AskedClaims>) =>
  useQuery({
    queryKey: ["site", "claims", computed(() => toValue(asked))],
    queryFn: () => answered(api.GET("/api/claims", { params: { query: toValue(asked) } })),
    placeholderData: (before) => before,
  });
export const useClaim = (number: MaybeRefOrGetter<number>) =>
  useQuery({
    queryKey: ["site", "claim", computed(() => toValue(number))],
    queryFn: () =>
      answered(api.GET("/api/claims/{number}", { params: { path: { number: toValue(number) } } })),
    enabled: computed(() => toValue(number) > 0),
    placeholderData: (before) => (before?.number === toValue(number) ? before : undefined),
  });
/** A namespace, as who works there sees it. */
export const useNamespace = (orchestrator: MaybeRefOrGetter<string>, namespace: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ["site", "namespace", computed(() => [toValue(orchestrator), toValue(namespace)])],
    queryFn: () =>
      answered(
        api.GET("/api/orchestrators/{orchestrator}/namespaces/{namespace}", {
          params: { path: { orchestrator: toValue(orchestrator), namespace: toValue(namespace) } },
        }),
      ),
    placeholderData: (before) => (before?.name === toValue(namespace) ? before : undefined),
  });
/** What would become of what manifests ask for. */
export const useWould = () =>
  useMutation({
    mutationFn: (body: { orchestrator: string; namespace: string; text: string }) =>
      answered(api.POST("/api/manifests", { body })),
  });
/** An orchestrator's secret in the clear: whoever asks first sees it, and nobody else. */
export const useShownSecret = () =>
  useMutation({
    mutationFn: (path: { orchestrator: string; name: string }) =>
      answered(api.POST("/api/orchestrators/{orchestrator}/secrets/{name}/show", { params: { path } })),
  });
export const useHosts = () =>
  useQuery({
    queryKey: ["site", "hosts"],
    queryFn: () => answered(api.GET("/api/hosts")),
    placeholderData: (before) => before,
  });
export const useVms = () =>
  useQuery({
    queryKey: ["site", "vms"],
    queryFn: () => answered(api.GET("/api/vms")),
    placeholderData: (before) => before,
  });
export const useVm = (name: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ["site", "vm", computed(() => toValue(name))],
    queryFn: () => answered(api.GET("/api/vms/{name}", { params: { path: { name: toValue(name) } } })),
    enabled: computed(() => Boolean(toValue(name))),
    placeholderData: (before) =>
      before?.name.toLowerCase() === toValue(name).toLowerCase() ? before : undefined,
  });
/** The file service of the cluster. */
export const useFiles = () =>
  useQuery({
    queryKey: ["site", "files"],
    queryFn: () => answered(api.GET("/api/files")),
    placeholderData: (before) => before,
  });
export const useShares = () =>
  useQuery({
    queryKey: ["site", "shares"],
    queryFn: () => answered(api.GET("/api/shares")),
    placeholderData: (before) => before,
  });
export const useFileShare = (name: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ["site", "share", computed(() => toValue(name))],
    queryFn: () => answered(api.GET("/api/shares/{name}", { params: { path: { name: toValue(name) } } })),
    enabled: computed(() => Boolean(toValue(name))),
    placeholderData: (before) =>
      before?.name.toLowerCase() === toValue(name).toLowerCase() ? before : undefined,
  });
export type AccessRule = components["schemas"]["RuleAt"];
/** What who comes from an address may do by some rules. */
export const useTryRules = () =>
  useMutation({
    mutationFn: (body: { address: string; rules: AccessRule[] }) =>
      answered(api.POST("/api/shares/try", { body })),
  });
/** The password of who signs in to a share: whoever asks first sees it, and nobody else. */
export const useShownPassword = () =>
  useMutation({
    mutationFn: (path: { name: string; user: string }) =>
      answered(api.POST("/api/shares/{name}/users/{user}/password", { params: { path } })),
  });
export const useReadDescriptor = () =>
  useMutation({
    mutationFn: (text: string) => answered(api.POST("/api/vms/descriptor", { body: { text } })),
  });
export const useHost = (name: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ["site", "host", computed(() => toValue(name))],
    queryFn: () => answered(api.GET("/api/hosts/{name}", { params: { path: { name: toValue(name) } } })),
    enabled: computed(() => Boolean(toValue(name))),
    placeholderData: (before) =>
      before?.name.toLowerCase() === toValue(name).toLowerCase() ? before : undefined,
  });
export const useVolumeRoom = (name: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ["site", "volume-room", computed(() => toValue(name))],
    queryFn: () =>
      answered(api.GET("/api/volumes/{name}/room", { params: { path: { name: toValue(name) } } })),
  });
export const useHeat = (name: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ["heat", computed(() => toValue(name))],
    queryFn: () =>
      answered(api.GET("/api/volumes/{name}/heat", { params: { path: { name: toValue(name) } } })),
  });
export type SamplesAsked = paths["/api/samples/{of}/{name}"]["get"]["parameters"]["path"] &
  NonNullable<paths["/api/samples/{of}/{name}"]["get"]["parameters"]["query"]>;
/** What went through a thing over a time. */
export const useSamples = (asked: MaybeRefOrGetter<SamplesAsked>) =>
  useQuery({
    queryKey: ["samples", computed(() => toValue(asked))],
    queryFn: () => {
      const { of, name, ...query } = toValue(asked);
      return answered(api.GET("/api/samples/{of}/{name}", { params: { path: { of, name }, query } }));
    },
    placeholderData: (before) => {
      const { of, name, part } = toValue(asked);
      return before?.of === of && before.name === name && before.part === (part ?? "") ? before : undefined;
    },
  });
/** What is asked of the volumes that keep a policy. */
export const useMeasured = (name: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ["heat", "measured", computed(() => toValue(name))],
    queryFn: () =>
      answered(api.GET("/api/policies/{name}/measured", { params: { path: { name: toValue(name) } } })),
  });
/** What a share of the fast tier, in per cent, would bring a volume and take from others. */
export const useShare = (name: MaybeRefOrGetter<string>, share: MaybeRefOrGetter<number | null>) =>
  useQuery({
    queryKey: ["heat", "share", computed(() => toValue(name)), computed(() => toValue(share))],
    queryFn: () =>
      answered(
        api.GET("/api/volumes/{name}/share", {
          params: { path: { name: toValue(name) }, query: { share: toValue(share)! } },
        }),
      ),
    enabled: computed(() => toValue(share) !== null),
    placeholderData: (before) => before,
  });
export const useDisk = (name: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ["site", "disk", computed(() => toValue(name))],
    queryFn: () => answered(api.GET("/api/disks/{name}", { params: { path: { name: toValue(name) } } })),
    placeholderData: (before) =>
      before?.name.toLowerCase() === toValue(name).toLowerCase() ? before : undefined,
  });
export const usePolicies = () =>
  useQuery({ queryKey: ["site", "policies"], queryFn: () => answered(api.GET("/api/policies")) });
export type BenchAsked = NonNullable<paths["/api/bench"]["get"]["parameters"]["query"]>;
export const useBench = (asked: MaybeRefOrGetter<BenchAsked>) =>
  useQuery({
    queryKey: ["site", "bench", computed(() => toValue(asked))],
    queryFn: () => answered(api.GET("/api/bench", { params: { query: toValue(asked) } })),
    enabled: computed(() => Boolean(toValue(asked).pool)),
    placeholderData: (before) => before,
  });
/** What it would take for these volumes to keep each policy. */
export const useAdoptions = (volumes: MaybeRefOrGetter<string[]>) =>
  useQuery({
    queryKey: ["site", "adoptions", computed(() => toValue(volumes))],
    queryFn: () => answered(api.GET("/api/adoptions", { params: { query: { volume: toValue(volumes) } } })),
    enabled: computed(() => toValue(volumes).length > 0),
    placeholderData: (before) => before,
  });
export const usePolicy = (name: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ["site", "policy", computed(() => toValue(name))],
    queryFn: () => answered(api.GET("/api/policies/{name}", { params: { path: { name: toValue(name) } } })),
    enabled: computed(() => Boolean(toValue(name))),
    placeholderData: (before) =>
      before?.name.toLowerCase() === toValue(name).toLowerCase() ? before : undefined,
  });
export const usePool = (name: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ["site", "pool", computed(() => toValue(name))],
    queryFn: () => answered(api.GET("/api/pools/{name}/page", { params: { path: { name: toValue(name) } } })),
    placeholderData: (before) =>
      before?.pool.name.toLowerCase() === toValue(name).toLowerCase() ? before : undefined,
  });
export const useSizing = (variants: MaybeRefOrGetter<SizingVariant[]>, enabled: MaybeRefOrGetter<boolean>) =>
  useQuery({
    queryKey: ["sizing", computed(() => toValue(variants))],
    queryFn: () => answered(api.POST("/api/sizing", { body: { variants: toValue(variants) } })),
    enabled: computed(() => toValue(enabled)),
    placeholderData: (before) => before,
    gcTime: 0,
  });
type PaperAsked = Omit<Schemas["PaperIn"], "plan">;
export const usePaperBench = (
  plan: MaybeRefOrGetter<SizingVariant | undefined>,
  asked: MaybeRefOrGetter<Partial<PaperAsked> & Pick<PaperAsked, "level">>,
) =>
  useQuery({
    queryKey: ["sizing", "schemes", computed(() => toValue(plan)), computed(() => toValue(asked))],
    queryFn: () =>
      answered(
        api.POST("/api/sizing/schemes", {
          body: { plan: toValue(plan)!, ...toValue(asked) } as Schemas["PaperIn"],
        }),
      ),
    enabled: computed(() => Boolean(toValue(plan)?.text.trim())),
    placeholderData: (before) => before,
    gcTime: 0,
  });
export const readSizingCsv = (variants: SizingVariant[]) =>
  answered(api.POST("/api/sizing/csv", { body: { variants }, parseAs: "text" }) as never) as Promise<string>;
export const writePlanAsText = (text: string) => answered(api.POST("/api/sizing/text", { body: { text } }));
export const readSitePlan = () => answered(api.GET("/api/sizing/site"));
export const useExtent = (name: MaybeRefOrGetter<string>, number: MaybeRefOrGetter<number | null>) =>
  useQuery({
    queryKey: ["site", "extent", computed(() => toValue(name)), computed(() => toValue(number))],
    queryFn: () =>
      answered(
        api.GET("/api/volumes/{name}/extents/{number}", {
          params: { path: { name: toValue(name), number: toValue(number) ?? 0 } },
        }),
      ),
    enabled: computed(() => toValue(number) !== null),
    placeholderData: (before) => before,
  });
export const useChange = (number: MaybeRefOrGetter<number>) =>
  useQuery({
    queryKey: ["changes", computed(() => toValue(number))],
    queryFn: () =>
      answered(api.GET("/api/changes/{number}", { params: { path: { number: toValue(number) } } })),
  });
/** A preview of a change, made anew when the wish or the site changes. */
export const usePreview = (
  kind: MaybeRefOrGetter<string>,
  params: MaybeRefOrGetter<Record<string, unknown>>,
  enabled: MaybeRefOrGetter<boolean>,
) =>
  useQuery({
    queryKey: ["site", "preview", computed(() => toValue(kind)), computed(() => toValue(params))],
    queryFn: () =>
      answered(
        api.POST("/api/changes/preview", { body: { kind: toValue(kind), params: toValue(params) } as Wish }),
      ),
    enabled: computed(() => toValue(enabled)),
    placeholderData: (before) => (before?.kind === toValue(kind) ? before : undefined),
    gcTime: 0,
  });

export const useReadPolicy = () =>
  useMutation({ mutationFn: (text: string) => answered(api.POST("/api/policies/read", { body: { text } })) });
export const useWritePolicy = () =>
  useMutation({
    mutationFn: (wish: PolicyWish) => answered(api.POST("/api/policies/write", { body: wish })),
  });
export const useCarryOut = () =>
  useMutation({
    mutationFn: (deed: { kind: string; params: Record<string, unknown>; digest: string }) =>
      answered(api.POST("/api/changes", { body: { reason: "", ...deed } as Deed })),
    onSettled: () => queries.invalidateQueries({ queryKey: ["changes"] }),
  });
export const useAsk = () =>
  useMutation({
    mutationFn: ({ number, what }: { number: number; what: "pause" | "resume" | "withdraw" }) =>
      answered(api.POST("/api/changes/{number}/ask", { params: { path: { number } }, body: { what } })),
    onSettled: () => queries.invalidateQueries({ queryKey: ["changes"] }),
  });
export const useSlowDown = () =>
  useMutation({
    mutationFn: ({ number, rate }: { number: number; rate: number | null }) =>
      answered(
        api.PUT("/api/changes/{number}/rate", {
          params: { path: { number } },
          body: { bytes_per_second: rate },
        }),
      ),
    onSettled: () => queries.invalidateQueries({ queryKey: ["changes"] }),
  });
export const usePull = () =>
  useMutation({
    mutationFn: (lever: Partial<Lever> & Pick<Lever, "lever">) =>
      answered(
        api.POST("/api/yard", {
          body: { what: "", lasts: 0, how: "well", text: "", port: 0, speed: 1, times: 1, ...lever },
        }),
      ),
    onSuccess: (yard) => queries.setQueryData(["yard"], yard),
  });
// Watch. What alters any of it has all of it read anew.
const ALERTS = ["alerts"];
const readAlerts = () => queries.invalidateQueries({ queryKey: ALERTS });
export const useWatch = () =>
  useQuery({ queryKey: [...ALERTS, "watch"], queryFn: () => answered(api.GET("/api/watch")) });
export const useIncident = (number: MaybeRefOrGetter<number>) =>
  useQuery({
    queryKey: [...ALERTS, "incident", computed(() => toValue(number))],
    queryFn: () =>
      answered(api.GET("/api/watch/incidents/{number}", { params: { path: { number: toValue(number) } } })),
    placeholderData: (before) => (before?.incident.number === toValue(number) ? before : undefined),
  });
export const useSee = () =>
  useMutation({
    mutationFn: (number: number) =>
      answered(api.POST("/api/watch/incidents/{number}/see", { params: { path: { number } } })),
    onSettled: readAlerts,
  });
export const useSilence = () =>
  useMutation({
    mutationFn: ({ number, seconds }: { number: number; seconds: number }) =>
      answered(
        api.POST("/api/watch/incidents/{number}/silence", {
          params: { path: { number } },
          body: { seconds },
        }),
      ),
    onSettled: readAlerts,
  });
export const useRules = () =>
  useQuery({ queryKey: [...ALERTS, "rules"], queryFn: () => answered(api.GET("/api/watch/rules")) });
/** What may be watched. */
export function useMetrics() {
  const { data } = useRules();
  return computed(() => data.value?.metrics ?? []);
}
/** A rule of number 0 is a new one. */
export const useSaveRule = () =>
  useMutation({
    mutationFn: ({ number, wish }: { number: number; wish: WatchRule }) =>
      answered(
        number
          ? api.PUT("/api/watch/rules/{number}", { params: { path: { number } }, body: wish })
          : api.POST("/api/watch/rules", { body: wish }),
      ),
    onSettled: readAlerts,
  });
export const useDeleteRule = () =>
  useMutation({
    mutationFn: (number: number) =>
      answered(api.DELETE("/api/watch/rules/{number}", { params: { path: { number } } })),
    onSettled: readAlerts,
  });
/** A rule on what happened; tried anew as it is altered, and as samples come. */
export const useTrial = (asked: MaybeRefOrGetter<Schemas["TrialIn"]>, enabled: MaybeRefOrGetter<boolean>) =>
  useQuery({
    queryKey: ["samples", "trial", computed(() => toValue(asked))],
    queryFn: () => answered(api.POST("/api/watch/rules/try", { body: toValue(asked) })),
    enabled: computed(() => toValue(enabled)),
    placeholderData: (before) => before,
    gcTime: 0,
  });
export const useRoutesOfWord = () =>
  useQuery({ queryKey: [...ALERTS, "routes"], queryFn: () => answered(api.GET("/api/watch/routes")) });
/** A route of number 0 is a new one. */
export const useSaveRoute = () =>
  useMutation({
    mutationFn: ({ number, wish }: { number: number; wish: Route["wish"] }) =>
      answered(
        number
          ? api.PUT("/api/watch/routes/{number}", { params: { path: { number } }, body: wish })
          : api.POST("/api/watch/routes", { body: wish }),
      ),
    onSettled: readAlerts,
  });
export const useDeleteRoute = () =>
  useMutation({
    mutationFn: (number: number) =>
      answered(api.DELETE("/api/watch/routes/{number}", { params: { path: { number } } })),
    onSettled: readAlerts,
  });
export const useTestRoute = () =>
  useMutation({
    mutationFn: (number: number) =>
      answered(api.POST("/api/watch/routes/{number}/test", { params: { path: { number } } })),
    onSettled: readAlerts,
  });
export const useSaveMail = () =>
  useMutation({
    mutationFn: (body: Schemas["MailServerIn"]) => answered(api.PUT("/api/watch/mail", { body })),
    onSettled: readAlerts,
  });
export const useGrace = () =>
  useMutation({
    mutationFn: (seconds: number) => answered(api.PUT("/api/grace", { body: { grace_seconds: seconds } })),
  });

const TOPICS: Record<string, string[][]> = {
  site: [["barn"], ["site"]],
  changes: [["changes"]],
  work: [["work"]],
  heat: [["heat"]],
  samples: [["samples"]],
  alerts: [["alerts"], ["yard"]],
  everything: [["barn"], ["site"], ["changes"], ["work"], ["heat"], ["samples"], ["alerts"], ["yard"]],
};

const QUIET_MS = 5000;

/** Follows the event stream while the calling scope lives. Returns whether it is connected. */
export function useNews() {
  const connected = ref(true);
  const stale = new Set<string>();
  let timer: ReturnType<typeof setTimeout> | undefined;
  // A query that is being read is read again afterwards, not cancelled: news that comes faster than answers
  // must not starve it.
  const refresh = () => {
    clearTimeout(timer);
    for (const key of stale) {
      const queryKey = JSON.parse(key) as string[];
      if (queries.isFetching({ queryKey })) continue;
      stale.delete(key);
      void queries.invalidateQueries({ queryKey });
    }
    if (stale.size) timer = setTimeout(refresh, 100);
  };
  // The watch is heard of each second. Where it falls silent nothing else would tell that it has: the barn
  // is asked itself.
  let heardAt = Date.now();
  const quiet = setInterval(() => {
    if (Date.now() - heardAt < QUIET_MS) return;
    heardAt = Date.now();
    void queries.invalidateQueries({ queryKey: ["barn"] });
  }, 1000);
  const source = new EventSource("/api/events");
  source.onopen = () => (connected.value = true);
  source.onerror = () => (connected.value = false);
  source.addEventListener("news", (event) => {
    heardAt = Date.now();
    const { topics } = JSON.parse((event as MessageEvent<string>).data) as { topics: string[] };
    for (const topic of topics) {
      for (const queryKey of TOPICS[topic] ?? []) {
        // What is being read when the stream opens is at least as new as the stream.
        if (topic === "everything" && queries.isFetching({ queryKey })) continue;
        stale.add(JSON.stringify(queryKey));
      }
    }
    refresh();
  });
  onScopeDispose(() => {
    source.close();
    clearInterval(quiet);
    clearTimeout(timer);
  });
  return connected;
}
