import { ChoiceField } from '@/ui/kit/action-form';

type WaysProps = {
  senders: { id: string; name: string; address: string }[];
  lists: { id: string; name: string }[];
  senderId?: string | null;
  listId?: string;
};

/** Who a rule's letters come from, and to whom they go. */
export const Ways = ({ senders, lists, senderId, listId }: WaysProps) => (
  <>
    <ChoiceField
      name="senderId"
      label="From"
      defaultValue={senderId ?? undefined}
      choices={senders.map((s) => ({ value: s.id, label: `${s.name} <${s.address}>` }))}
    />
    <ChoiceField
      name="listId"
      label="To everyone reading"
      defaultValue={listId}
      choices={lists.map((l) => ({ value: l.id, label: l.name }))}
    />
  </>
);
