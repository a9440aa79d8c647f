import Link from 'next/link';

export default function NotFound() {
  return (
    <main className="mx-auto max-w-xl px-5 py-[16vh]">
      <h1 className="font-serif text-title">There is nothing at this address</h1>
      <p className="mt-2 font-serif text-standfirst text-ink-2">
        Perhaps it was moved or removed, or a part of the address is missing.
      </p>
      <p className="mt-5">
        <Link href="/" className="link font-semibold">
          Go to your desk
        </Link>
      </p>
    </main>
  );
}
