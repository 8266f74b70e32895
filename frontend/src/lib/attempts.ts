// Versions of a recording, in words.

/** How a version is called: 0 is the recording as it came in. */
export const versionName = (number: number) => (number ? `version ${number}` : 'the recording');
