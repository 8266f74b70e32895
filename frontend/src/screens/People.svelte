<script lang="ts">
  // Who has an account here, and what they may do.
  import { createQuery } from '@tanstack/svelte-query';
  import Button from '../components/Button.svelte';
  import Labelled from '../components/Labelled.svelte';
  import LinkButton from '../components/LinkButton.svelte';
  import ListTable from '../components/ListTable.svelte';
  import Problem from '../components/Problem.svelte';
  import Question from '../components/Question.svelte';
  import ScreenHead from '../components/ScreenHead.svelte';
  import ShownOnce from '../components/ShownOnce.svelte';
  import { Acting } from '../lib/acting.svelte';
  import type { Invited, PersonView, Role } from '../lib/api';
  import { counted, date } from '../lib/format';
  import { named, ROLES } from '../lib/roles';
  import * as server from '../lib/server/access';

  const acting = new Acting();
  const query = createQuery(() => server.people());
  const STATES: Record<PersonView['state'], string> = { active: 'Active', invited: 'Invited', ended: 'Ended' };
  let asking: HTMLDialogElement | undefined = $state();
  let ending: HTMLDialogElement | undefined = $state();
  /** Whose roles are changed; nobody where somebody new is invited. */
  let whose = $state<PersonView>();
  let name = $state('');
  let sign_in = $state('');
  let roles = $state<Role[]>([]);
  let link = $state('');

  const shown = ({ secret }: Invited) => (link = `${location.origin}/#/join/${secret}`);
  function ask(person?: PersonView) {
    whose = person;
    name = sign_in = '';
    roles = person ? [...person.roles] : query.data?.length ? ['operator'] : ROLES.map(([role]) => role);
    acting.problem = '';
    asking?.showModal();
  }
  async function save() {
    await acting.attempt(async () => {
      if (whose) await server.changePerson(whose.id, { roles });
      else shown(await server.invite(sign_in, name, roles));
    });
    if (!acting.problem) asking?.close();
  }
  const inviteAgain = (person: PersonView) => acting.attempt(async () => shown(await server.inviteAgain(person.id)));
  const end = (person: PersonView, ended: boolean) => acting.attempt(() => server.changePerson(person.id, { ended }));
  function askToEnd(person: PersonView) {
    whose = person;
    ending?.showModal();
  }
  const turn = (role: Role, on: boolean) => (roles = on ? [...roles, role] : roles.filter((one) => one !== role));
</script>

<svelte:head><title>People · Ispettore</title></svelte:head>
<main>
  <ScreenHead title="People">
    {#snippet way()}<a href="#/settings">Settings</a>{/snippet}
    {#snippet told()}
      {#if query.data?.length}{counted(query.data.length, 'account')}.{:else if query.data}No accounts: whoever uses
        this machine does everything. Make accounts to let others in from their own machines.{/if}
    {/snippet}
    {#snippet acts()}
      <a href="#/trail">Trail</a>
      <Button strong onclick={() => ask()}>Invite a person…</Button>
    {/snippet}
  </ScreenHead>
  {#if !asking?.open}<Problem {acting} />{/if}
  <Problem {query} />
  {#if query.data?.length}
    <ListTable caption="People">
      <thead>
        <tr
          ><th scope="col">Name</th><th scope="col">Sign-in name</th><th scope="col">Roles</th><th scope="col"
            >Account</th
          ><th scope="col">Last seen</th><th scope="col"><span class="visually-hidden">What can be done</span></th></tr
        >
      </thead>
      <tbody>
        {#each query.data as person (person.id)}
          <tr data-person={person.sign_in} class:ended={person.state === 'ended'}>
            <th scope="row">{person.name}</th>
            <td>{person.sign_in}</td>
            <td>{named(person.roles)}</td>
            <td>{STATES[person.state]}</td>
            <td>{person.seen_at ? date(person.seen_at) : 'never'}</td>
            <td
              ><span class="links">
                {#if person.state === 'ended'}
                  <LinkButton label={`Reopen the account of ${person.name}`} onclick={() => end(person, false)}
                    >Reopen</LinkButton
                  >
                {:else}
                  <LinkButton label={`Change roles of ${person.name}`} onclick={() => ask(person)}
                    >Change roles…</LinkButton
                  >
                  <LinkButton label={`New link for ${person.name}`} onclick={() => inviteAgain(person)}
                    >New link</LinkButton
                  >
                  <LinkButton label={`End the account of ${person.name}`} onclick={() => askToEnd(person)}
                    >End…</LinkButton
                  >
                {/if}
              </span></td
            >
          </tr>
        {/each}
      </tbody>
    </ListTable>
  {/if}
  <Question
    title={whose ? `Roles of ${whose.name}` : 'Invite a person'}
    meaning={whose
      ? 'The change holds at once, in every browser they are signed in with.'
      : 'You get a link to send them. With it they set a password, once, within a week.'}
    act={whose ? 'Save roles' : 'Make the link'}
    bind:element={asking}
    disabled={!roles.length || (!whose && !(name.trim() && sign_in.trim()))}
    problem={acting.problem}
    onact={save}
  >
    <div class="fields">
      {#if !whose}
        <Labelled label="Name, as certificates show it"
          ><input bind:value={name} maxlength="200" autocomplete="off" /></Labelled
        >
        <Labelled label="Sign-in name">
          <input bind:value={sign_in} maxlength="64" autocomplete="off" autocapitalize="none" spellcheck="false" />
        </Labelled>
      {/if}
      <fieldset>
        <legend>Roles</legend>
        {#each ROLES as [role, title, does] (role)}
          <label>
            <input
              type="checkbox"
              checked={roles.includes(role)}
              onchange={(event) => turn(role, event.currentTarget.checked)}
            />
            <span><b>{title}</b> {does}</span>
          </label>
        {/each}
      </fieldset>
    </div>
  </Question>
  <Question
    title={`End the account of ${whose?.name ?? ''}`}
    meaning="They are signed out everywhere at once and can’t sign in any more. What they did and certified stays. You can reopen it."
    act="End the account"
    bind:element={ending}
    onact={async () => {
      if (whose) await end(whose, true);
      ending?.close();
    }}
  />
  <ShownOnce
    title="Link"
    secret={link}
    meaning="Send it by a way that only they can read. It works once, for a week, and is not shown again."
    onclose={() => (link = '')}
  />
</main>

<style>
  main {
    padding: var(--space-6) var(--space-7) var(--space-8);
  }
  .links {
    display: flex;
    flex-wrap: wrap;
    gap: var(--space-2) var(--space-5);
  }
  .ended > * {
    color: var(--soft);
  }
  .fields {
    display: grid;
    gap: var(--space-5);
  }
  fieldset {
    border: 0;
    padding: 0;
    margin: 0;
    display: grid;
    gap: var(--space-3);
  }
  legend {
    font-size: var(--type-small);
    color: var(--soft);
    padding: 0;
    margin-bottom: var(--space-2);
  }
  label {
    display: flex;
    gap: var(--space-4);
    align-items: center;
  }
  b {
    font-weight: 600;
  }
</style>
