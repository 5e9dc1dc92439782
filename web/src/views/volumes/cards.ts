import type { Pool, VolumePage } from "../../api/client";
import { count, size, terabytes } from "../../lib/format";
import { pathOf } from "../../lib/paths";

/** A volume, its policy and its pool, as cards of its lineage. */
export function volumeCards(v: VolumePage, pool: Pool | undefined, here: boolean) {
  const from = v.origin;
  return [
    ...(v.claim
      ? [
          {
            kind: "Claim",
            name: v.claim.path,
            fact: v.claim.used_by
              ? `of ${v.claim.orchestrator}, used last by ${v.claim.used_by}`
              : `of ${v.claim.orchestrator}`,
            lamp: v.claim.state.lamp,
            to: pathOf("claim", String(v.claim.number)),
          },
        ]
      : []),
    ...(v.vm
      ? [
          {
            kind: "VM",
            name: v.vm.name,
            fact: `this is its ${v.vm.called}`,
            lamp: v.vm.state.lamp,
            to: pathOf("vm", v.vm.name),
          },
        ]
      : []),
    ...(v.share
      ? [
          {
            kind: "Share",
            name: v.share,
            fact: "lies on this volume",
            to: pathOf("share", v.share),
          },
        ]
      : []),
    ...(from
      ? [
          {
            kind: from.shown ? "Shows" : "Reads the rest from",
            name: `${from.snapshot} of ${from.volume}`,
            fact: `${from.own.toLocaleString("en")} of ${count(from.extents, "extent")} its own${
              from.binned ? "; the original is in the bin" : ""
            }`,
            to: pathOf("volume", from.volume),
          },
        ]
      : []),
    {
      kind: "Volume",
      name: v.name,
      fact: `${size(v.size_bytes)}, ${terabytes(v.footprint.value)} TB on disks`,
      lamp: v.state.lamp,
      to: pathOf("volume", v.name),
      here,
    },
    {
      kind: v.keeps ? "Policy" : "Protection",
      name: v.keeps ? v.keeps.policy : `${v.counted} by ${v.level}`,
      fact: v.keeps && v.keeps.standing !== "kept" ? `${v.keeps.sentence} ${v.keeps.cure}` : v.protection,
      lamp: v.keeps ? v.keeps.lamp : v.state.lamp,
      to: v.keeps ? pathOf("policy", v.keeps.policy) : pathOf("volume", v.name),
    },
    {
      kind: "Pool",
      name: v.pool,
      fact: pool ? `${size(pool.free.value)} free` : "",
      lamp: pool?.state.lamp,
      to: pathOf("pool", v.pool),
    },
  ];
}
