// Passkeys by the browser's own interface (WebAuthn level 3): options come and answers go as JSON.
import { Refused } from './api';

type Options = Record<string, unknown>;
type Answer = Record<string, unknown>;

/** Whether this browser can use them. */
export const able = () =>
  typeof PublicKeyCredential === 'function' && 'parseRequestOptionsFromJSON' in PublicKeyCredential;

const answer = (found: Credential | null): Answer => {
  if (!found) throw new Refused('No passkey was chosen.');
  return (found as PublicKeyCredential).toJSON() as Answer;
};

/** What the browser says where somebody closed its dialog, or it could not be shown. */
const notDone = (error: unknown): never => {
  if (error instanceof Refused) throw error;
  throw new Refused(
    (error as Error).name === 'InvalidStateError'
      ? 'This passkey is on your account already.'
      : 'No passkey was used: the browser’s dialog was closed, or took too long.',
  );
};

/** Have somebody make a passkey. */
export const added = (options: Options): Promise<Answer> =>
  navigator.credentials
    .create({
      publicKey: PublicKeyCredential.parseCreationOptionsFromJSON(
        options as unknown as PublicKeyCredentialCreationOptionsJSON,
      ),
    })
    .then(answer)
    .catch(notDone);

/** Have somebody choose one of theirs. */
export const chosen = (options: Options): Promise<Answer> =>
  navigator.credentials
    .get({
      publicKey: PublicKeyCredential.parseRequestOptionsFromJSON(
        options as unknown as PublicKeyCredentialRequestOptionsJSON,
      ),
    })
    .then(answer)
    .catch(notDone);
