/** What a protocol is called. */
export const PROTOCOL = { nfs3: "NFS 3", "nfs4.1": "NFS 4.1", smb: "SMB" } as const;

/** What somebody may do. */
export const RIGHT = { none: "no access", read: "read only", "read-write": "read and write" } as const;
