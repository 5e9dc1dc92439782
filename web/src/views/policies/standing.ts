/** How a volume stands to its policy, as a lamp. */
export const STANDING = { kept: "sound", "catching up": "mending", broken: "short" } as const;
