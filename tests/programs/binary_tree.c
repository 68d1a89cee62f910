#include "selfcheck.h"

struct node {
    uint8_t key;
    struct node *left, *right;
};
static struct node pool[10];
static uint8_t used, seen, last, in_order = 1;
static struct node *root;
static struct node *insert(struct node *n, uint8_t key)
{
    if (!n) {
        n = &pool[used++];
        n->key = key;
    } else if (key < n->key) {
        n->left = insert(n->left, key);
    } else {
        n->right = insert(n->right, key);
    }
    return n;
}
static void walk(const struct node *n)
{
    if (!n)
        return;
    walk(n->left);
    in_order &= n->key > last;
    last = n->key;
    seen++;
    walk(n->right);
}
static uint8_t height(const struct node *n)
{
    if (!n)
        return 0;
    const uint8_t l = height(n->left), r = height(n->right);
    return 1 + (l > r ? l : r);
}

int main(void)
{
    begin();
    static const uint8_t keys[] = { 50, 20, 70, 10, 30, 60, 80, 25, 65 };
    for (uint8_t i = 0; i < sizeof keys; i++)
        root = insert(root, keys[i]);
    walk(root);
    CHECK(seen == sizeof keys && in_order);
    CHECK(height(root) == 4);
    finish();
}
