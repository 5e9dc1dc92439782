/**
 * Which page stands at which address; the file of each, below views. The build reads this too: it has the
 * browser ask for a page's files while the first scripts still load.
 */
export const ROUTES: readonly { path: string; view: string; number?: string }[] = [
  { path: "/", view: "barn/BarnView" },
  { path: "/machines", view: "machines/MachinesView" },
  { path: "/machines/:node", view: "machines/NodeView" },
  { path: "/disks/:disk", view: "machines/DiskView" },
  { path: "/intake", view: "machines/IntakeView" },
  { path: "/arrange", view: "machines/ArrangeView" },
  { path: "/text", view: "machines/TextView" },
  { path: "/cluster", view: "cluster/ClusterView" },
  { path: "/pools", view: "pools/PoolsView" },
  { path: "/sizing", view: "pools/SizingView" },
  { path: "/pools/:name", view: "pools/PoolView" },
  { path: "/policies", view: "policies/PoliciesView" },
  { path: "/policies/:name", view: "policies/PolicyView" },
  { path: "/volumes", view: "volumes/VolumesView" },
  { path: "/volumes/:name", view: "volumes/VolumeView" },
  { path: "/volumes/:name/hosts", view: "hosts/ReachView" },
  { path: "/consumers", view: "consumers/ClaimsView" },
  { path: "/consumers/namespaces", view: "consumers/NamespacesView" },
  { path: "/consumers/namespaces/:orchestrator/:name", view: "consumers/NamespaceView" },
  { path: "/consumers/classes", view: "consumers/ClassesView" },
  { path: "/consumers/aside", view: "consumers/AsideView" },
  { path: "/consumers/orchestrators", view: "consumers/OrchestratorsView" },
  { path: "/claims/:number(\\d+)", view: "consumers/ClaimView", number: "number" },
  { path: "/hosts", view: "hosts/HostsView" },
  { path: "/hosts/:name", view: "hosts/HostView" },
  { path: "/vms", view: "vms/VmsView" },
  { path: "/vms/:name", view: "vms/VmView" },
  { path: "/shares", view: "shares/SharesView" },
  { path: "/shares/:name", view: "shares/ShareView" },
  { path: "/watch", view: "watch/WatchView" },
  { path: "/watch/rules", view: "watch/RulesView" },
  { path: "/watch/rules/:rule", view: "watch/RuleView" },
  { path: "/watch/routes", view: "watch/RoutesView" },
  { path: "/watch/:number(\\d+)", view: "watch/IncidentView", number: "number" },
  { path: "/changes", view: "changes/ChangesView" },
  { path: "/changes/:number(\\d+)", view: "changes/ChangeView", number: "number" },
  { path: "/:rest(.*)*", view: "NotHere" },
];

/** What an address must look like to be that of a route. */
export function patternOf(path: string): string {
  return `^${path.replace(/:\w+(\(([^)]*)\))?\*?/g, (_, __, own: string | undefined) => own ?? "[^/]+")}$`;
}
